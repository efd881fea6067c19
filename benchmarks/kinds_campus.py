"""Small networks that have what stands between: what is configured, as rows of a survey and for who builds them."""

import ipaddress
import random
import shutil

VIDS = (10, 20, 30)
KINDS = (
    "isolated", "filter", "discard", "shared", "automatic", "off6", "wrong6", "none6", "proxy", "pruned", "flows",
    "pair", "guard", "one-way", "unaware", "trees",
)  # fmt: skip


def _without(vid, carried, trunk, pruned):
    """The settings of a trunk, and its row: one VLAN left out, if it is `pruned`."""
    if not pruned:
        return carried, trunk
    return carried.replace(f",{vid}", ""), {**trunk, "allowed": trunk["allowed"].replace(f" {vid}", "")}


class Campus:
    """The definition: what is configured, as rows of a survey, and what the hosts and switches are told."""

    def __init__(self, seed):
        self.random = random.Random(seed)
        pick = self.random.random
        self.dual = pick() < 0.7
        self.bundle = self.random.choice([None, None, "static", "lacp", "deaf"])
        self.tunnel = self.bundle is None and pick() < 0.4
        self.kinds = {name for name in KINDS if pick() < 0.3}
        if not self.dual:
            self.kinds -= {"off6", "wrong6", "none6"}
        if self.bundle or self.tunnel or "pruned" in self.kinds:
            self.kinds -= {"one-way"}
        if not shutil.which("keepalived"):
            self.kinds -= {"pair"}
        self.kinds -= {"shared"} if "pair" in self.kinds else set()
        self.joins = self.random.choice(["one", "one", "native", "two"])  # what faces a bridge that knows no VLANs
        if self.kinds & {"pair", "shared", "proxy"} and self.joins == "two":
            self.joins = "one"
        tables = (
            "devices",
            "ports",
            "neighbors",
            "gateways",
            "routes",
            "hosts",
            "filters",
            "trees",
            "tree_ports",
        )
        self.rows = {name: [] for name in tables}
        self.flows, self.routers, self.bridges = [], ["rt"], []
        self.cables, self.settings, self.nft, self.router = [], {}, [], []
        self.switches = ["sw-a", "sw-b", *(["mid-a", "mid-b"] if self.tunnel else [])]
        self._switches()
        self._router()
        if "pair" in self.kinds:
            self._second_router()
        self._hosts()
        if "guard" in self.kinds:
            self._guard()
        if "unaware" in self.kinds:
            self._unaware()
        if "trees" in self.kinds:
            self._trees_per_vlan()
        if "flows" in self.kinds:
            self._flows()
        self.managed = {}
        self._manage()

    def _manage(self):
        """A management interface on each of the two switches, in some VLAN; one without a default route, perhaps."""
        for last, device in enumerate(("sw-a", "sw-b"), 201):
            vid, routed = self.random.choice(VIDS), self.random.random() < 0.75
            self.managed[device] = vid, f"10.7.{vid}.{last}", routed
            self.rows["gateways"].append(
                {
                    "device": device,
                    "interface": f"vlan{vid}",
                    "address": f"10.7.{vid}.{last}/24",
                    "vid": vid,
                    "admin": "up",
                    "oper": "up",
                    "proxy_arp": "no",
                }
            )
            if routed:
                row = {"device": device, "prefix": "0.0.0.0/0", "next_hop": f"10.7.{vid}.1", "interface": f"vlan{vid}"}
                self.rows["routes"].append({**row, "origin": "static"})

    def port(self, device, name, settings, more=(), **cells):
        cells |= dict(more)
        self.rows["ports"].append({"device": device, "port": name, "admin": "up", "oper": "up", **cells})
        if settings is not None:
            self.settings[device, name] = settings

    def cable(self, a, p, b, q):
        self.cables.append((a, p, b, q))
        one_way = "one-way" in self.kinds and (a, p) == ("sw-a", "u1")  # what sw-a sends there does not arrive
        for d, x, e, y in ((a, p, b, q), (b, q, a, p))[: 1 if one_way else 2]:
            self.rows["neighbors"].append({"device": d, "port": x, "neighbor": e, "neighbor_port": y})

    def _switches(self):
        for device in self.switches:
            self.rows["devices"].append({"device": device, "capabilities": "bridge", "routing": "no", "routing6": "no"})
            self.rows["trees"].append({"device": device, "instance": 0, "protocol": "off"})
        trunk = {"mode": "trunk", "pvid": "none", "allowed": "10 20 30"}
        carried = "vlan_mode=trunk trunks=10,20,30"
        pruned = self.random.choice(("sw-a", "sw-b")) if "pruned" in self.kinds and not self.bundle else None
        if self.bundle:
            for device in ("sw-a", "sw-b"):
                lacp = "off" if self.bundle == "static" or (self.bundle == "deaf" and device == "sw-b") else "active"
                dead = self.bundle == "deaf" and lacp == "active"
                state = "detached" if dead else "attached"
                self.port(
                    device,
                    "bond0",
                    f"{carried} lacp={lacp} bond_mode=active-backup",
                    **trunk,
                    oper="down" if dead else "up",
                )
                for n in (1, 2):
                    self.port(device, f"u{n}", None, lag="bond0", lag_state=state)
            for n in (1, 2):
                self.cable("sw-a", f"u{n}", "sw-b", f"u{n}")
        elif self.tunnel:
            for device, near in (("mid-a", "sw-a"), ("mid-b", "sw-b")):
                self.port(near, "u1", *_without(30, carried, trunk, near == pruned))
                self.port(device, "c1", "vlan_mode=dot1q-tunnel tag=300", mode="tunnel", pvid=300)
                self.port(device, "t1", "vlan_mode=trunk trunks=300", mode="trunk", pvid="none", allowed="300")
                self.cable(near, "u1", device, "c1")
            self.cable("mid-a", "t1", "mid-b", "t1")
        else:
            for device in ("sw-a", "sw-b"):
                self.port(device, "u1", *_without(30, carried, trunk, device == pruned))
            self.cable("sw-a", "u1", "sw-b", "u1")

    def _router(self):
        routing6 = "no" if "off6" in self.kinds or not self.dual else "yes"
        self.rows["devices"].append({"device": "rt", "capabilities": "router", "routing": "yes", "routing6": routing6})
        proxy = self.random.choice(VIDS) if "proxy" in self.kinds else None
        for n, vid in enumerate(VIDS):
            switch = self.switches[n % 2]
            self.port(switch, f"r{vid}", f"vlan_mode=access tag={vid}", mode="access", pvid=vid)
            self.port("rt", f"e{vid}", None, mode="routed")
            self.cable(switch, f"r{vid}", "rt", f"e{vid}")
            held = [f"10.7.{vid}.1/24", *([f"fd07:{vid}::1/64", "fe80::1/64"] if self.dual else [])]
            for address in held:
                cells = {"proxy_arp": ("yes" if proxy == vid else "no") if ":" not in address else ""}
                if vid == 20 and "shared" in self.kinds and address.startswith("10."):
                    cells |= {"virtual": "10.7.20.254", "virtual_state": self.random.choice(["master", "backup"])}
                self.rows["gateways"].append(
                    {
                        "device": "rt",
                        "interface": f"e{vid}",
                        "address": address,
                        "port": f"e{vid}",
                        "untagged": "yes",
                        "admin": "up",
                        "oper": "up",
                        "filter_in": "none",
                        "filter_out": "none",
                        **cells,
                    }
                )
        if "discard" in self.kinds:
            prefix = self.random.choice(
                ["10.7.20.0/28", "10.7.30.16/28", "fd07:30::10/124" if self.dual else "10.7.10.0/27"]
            )
            kind = self.random.choice(["blackhole", "unreachable", "prohibit"])
            self.rows["routes"].append(
                {"device": "rt", "prefix": str(ipaddress.ip_network(prefix)), "kind": kind, "origin": "static"}
            )
        if "filter" in self.kinds:
            self._filter()

    def _second_router(self):
        """A router beside the first; a daemon on each shares an address of VLAN 20 between them (RFC 9568)."""
        self.routers.append("rt2")
        self.prefers = self.random.choice(self.routers)
        self.rows["devices"].append({"device": "rt2", "capabilities": "router", "routing": "yes", "routing6": "no"})
        for n, vid in enumerate(VIDS):
            switch = self.switches[1 - n % 2]
            self.port(switch, f"q{vid}", f"vlan_mode=access tag={vid}", mode="access", pvid=vid)
            self.port("rt2", f"e{vid}", None, mode="routed")
            self.cable(switch, f"q{vid}", "rt2", f"e{vid}")
            self.rows["gateways"].append(
                {
                    "device": "rt2",
                    "interface": f"e{vid}",
                    "address": f"10.7.{vid}.2/24",
                    "port": f"e{vid}",
                    "untagged": "yes",
                    "admin": "up",
                    "oper": "up",
                    "filter_in": "none",
                    "filter_out": "none",
                    "proxy_arp": "no",
                }
            )
        for row in self.rows["gateways"]:
            if row["interface"] == "e20" and row["address"].startswith("10.7.20."):
                row["virtual"] = "10.7.20.254"

    def _guard(self):
        """Two bridges in a row behind sw-b, the second of which a guard of the first keeps out; a host at each."""
        ports = {"kb": ("u", "g", "p1"), "kc": ("u", "p1")}
        self.bridges += ports
        self.port("sw-b", "k1", "vlan_mode=access tag=10", mode="access", pvid=10)
        for number, (device, names) in enumerate(ports.items(), 1):
            own = f"02:07:ff:00:00:0{number}"
            self.rows["devices"].append({"device": device, "capabilities": "bridge", "routing": "no", "routing6": "no"})
            self.rows["trees"].append(
                {
                    "device": device,
                    "instance": 0,
                    "protocol": "stp",
                    "priority": 32768,
                    "address": own,
                    "root_priority": 32768,
                    "root_address": own,
                }
            )
            for at, name in enumerate(names, 1):
                self.port(device, name, None, mode="access", pvid=10)
                shut = name == "g"
                cells = {"role": "disabled", "state": "discarding", "guard": "bpdu"} if shut else {"guard": "none"}
                row = {"device": device, "port": name, "instance": 0, "role": "designated", "state": "forwarding"}
                self.rows["tree_ports"].append({**row, "number": at, "priority": 128, "cost": 2, **cells})
            told = {
                "address": f"10.7.10.{50 + number}/24",
                "gateway": "10.7.10.1",
                "mac": f"02:07:00:00:10:{50 + number}",
            }
            self.rows["hosts"].append({"host": f"h10-{device}1", **told, "device": device, "port": "p1", "link": "up"})
        self.cable("sw-b", "k1", "kb", "u")
        self.cable("kb", "g", "kc", "u")

    def _unaware(self):
        """Two kernel bridges in a row that know no VLANs, behind one port, a trunk, or ports of two VLANs."""
        self.bridges += ["kd", "ke"]
        vid = self.random.choice(VIDS)
        if self.joins == "native":
            carried = ",".join(map(str, VIDS))
            self.port(
                "sw-a",
                "k2",
                f"vlan_mode=native-untagged tag={vid} trunks={carried}",
                mode="trunk",
                pvid=vid,
                allowed="10 20 30",
            )
        else:
            self.port("sw-a", "k2", f"vlan_mode=access tag={vid}", mode="access", pvid=vid)
        self.cable("sw-a", "k2", "kd", "u")
        self.cable("kd", "w", "ke", "u")
        ends = [("kd", "u"), ("kd", "w"), ("kd", "p1"), ("ke", "u"), ("ke", "p1")]
        if self.joins == "two":
            other = self.random.choice([one for one in VIDS if one != vid])
            self.port("sw-b", "k2", f"vlan_mode=access tag={other}", mode="access", pvid=other)
            self.cable("sw-b", "k2", "ke", "v")
            ends.append(("ke", "v"))
        for device in ("kd", "ke"):
            self.rows["devices"].append(
                {"device": device, "capabilities": "bridge", "routing": "no", "routing6": "no", "vlan_aware": "no"}
            )
            self.rows["trees"].append({"device": device, "instance": 0, "protocol": "off", "bpdus": "pass"})
        for device, port in ends:
            self.port(device, port, None)
        wrong = self.random.choice(VIDS)
        self._plain_host("kd", "p1", vid, 61)
        self._plain_host("ke", "p1", self.random.choice([vid, wrong]), 62)
        if self.joins == "native":
            tag = self.random.choice([one for one in VIDS if one != vid])
            self.port("ke", "p2", None)
            self._plain_host("ke", "p2", tag, 63, vid=tag)

    def _plain_host(self, device, port, subnet, last, **cells):
        told = {"address": f"10.7.{subnet}.{last}/24", "gateway": f"10.7.{subnet}.1"}
        told["mac"] = f"02:07:00:00:{subnet:02x}:{last}"
        row = {"host": f"h{subnet}-{device}{port[1:]}", **told, "device": device, "port": port, "link": "up", **cells}
        self.rows["hosts"].append(row)

    def _trees_per_vlan(self):
        """Two devices with a kernel bridge for each VLAN, side by side, whose trees block different cables."""
        self.port("sw-b", "k3", "vlan_mode=trunk trunks=10,20", mode="trunk", pvid="none", allowed="10 20")
        self.cable("sw-b", "k3", "kp", "u")
        lacks = self.random.choice([None, None, ("kq", "l1", 10), ("kp", "l2", 20)])
        links = {"kp": ("u", "l1", "l2"), "kq": ("l1", "l2")}
        hosts = {"kp": ((10, "p1"), (20, "p2")), "kq": ((20, "p1"), (10, "p2"))}
        for n in (1, 2):
            self.cable("kp", f"l{n}", "kq", f"l{n}")
        for number, device in enumerate(links, 1):
            self.bridges.append(device)
            self.rows["devices"].append({"device": device, "capabilities": "bridge", "routing": "no", "routing6": "no"})
            for vid in (10, 20):
                self.rows["trees"].append(
                    {
                        "device": device,
                        "instance": vid,
                        "protocol": "per-vlan",
                        "priority": 4096 * self.random.randint(1, 9),
                        "address": f"02:07:fe:00:{vid}:0{number}",
                    }
                )
            for at, port in enumerate(links[device], 1):
                vids = [vid for vid in (10, 20) if (device, port, vid) != lacks]
                self.port(device, port, None, mode="trunk", pvid="none", allowed=" ".join(map(str, vids)))
                for vid in vids:
                    self._costs(device, port, vid, at)
            for at, (vid, port) in enumerate(hosts[device], len(links[device]) + 1):
                self.port(device, port, None, mode="access", pvid=vid)
                self._costs(device, port, vid, at)
                self._plain_host(device, port, vid, 70 + 10 * number + at)

    def _costs(self, device, port, vid, number):
        self.rows["tree_ports"].append(
            {
                "device": device,
                "port": port,
                "instance": vid,
                "number": number,
                "priority": 128,
                "cost": self.random.choice([2, 4, 19]),
            }
        )

    def _flows(self):
        """Flows of a switch that drop some packets, of all ports or of one; ARP and neighbour discovery pass."""
        switch = self.random.choice(("sw-a", "sw-b"))
        mine = [row for row in self.rows["ports"] if row["device"] == switch and not row.get("lag")]
        edge = [row["port"] for row in mine if row["port"].startswith("p")]
        told = []
        for priority in range(self.random.randint(1, 3), 0, -1):
            protocol = self.random.choice(["icmp", "ip", "udp"])
            vid = self.random.choice(VIDS)
            prefix = self.random.choice([f"10.7.{vid}.0/24", f"10.7.{vid}.8/29", f"10.7.{vid}.4/30"])
            way, match = self.random.choice([("source", "nw_src"), ("destination", "nw_dst")])
            port = self.random.choice([None, *edge]) if self.random.random() < 0.5 else None
            action = "drop" if self.random.random() < 0.75 else "accept"
            cells = {"action": action, "family": "4", way: prefix}
            told.append((port, cells | ({"protocol": protocol} if protocol != "ip" else {})))
            entering = f"in_port={switch}_{port}," if port else ""
            does = "drop" if action == "drop" else "NORMAL"
            self.flows.append(
                (switch, f"priority={100 + priority},{protocol},{entering}{match}={prefix},actions={does}")
            )
        for row in mine:
            row["filter_in"] = f"flows in {row['port']}"
            own = [cells for port, cells in told if port in (None, row["port"])]
            for number, cells in enumerate(own, 1):
                self.rows["filters"].append(
                    {"device": switch, "filter": row["filter_in"], "number": 10 * number, **cells}
                )
            self.rows["filters"].append({"device": switch, "filter": row["filter_in"], "otherwise": "accept"})

    def _filter(self):
        """A chain for what comes in by one interface: each entry of some source or destination, protocol, state."""
        vid = self.random.choice(VIDS)
        rows, lines = [], []
        for number in range(10, 10 * self.random.randint(2, 4) + 1, 10):
            action = self.random.choice(["accept", "drop", "reject"])
            other = self.random.choice(VIDS)
            row = {"device": "rt", "filter": "chain1", "number": number, "action": action}
            words = []
            family = self.random.choice("446")
            way = self.random.choice(["source", "destination"])
            prefix = (
                self.random.choice([f"10.7.{other}.0/24", f"10.7.{other}.8/29"])
                if family == "4"
                else f"fd07:{other}::/64"
            )
            if self.random.random() < 0.7:
                row |= {way: prefix, "family": family}
                words.append(f"ip{'6' if family == '6' else ''} {'saddr' if way == 'source' else 'daddr'} {prefix}")
            if self.random.random() < 0.5:
                protocol = self.random.choice(["icmp", "tcp"]) if family == "4" else "ipv6-icmp"
                row |= {"protocol": protocol, "family": family}
                words.append(f"meta nfproto ipv{family} meta l4proto {protocol}")
            if self.random.random() < 0.3:
                state = self.random.choice(["new", "established"])
                row["state"] = state
                words.append(f"ct state {state}")
            rows.append(row)
            lines.append(f"nft add rule inet kinds way iifname e{vid} {' '.join(words)} {action}")
        last = self.random.choice(["accept", "drop"])
        rows.append({"device": "rt", "filter": "chain1", "otherwise": last})
        lines.append(f"nft add rule inet kinds way iifname e{vid} {last}")
        self.rows["filters"] += rows
        self.nft = [
            "nft add table inet kinds",
            "nft 'add chain inet kinds way { type filter hook forward priority 0; policy accept; }'",
            *lines,
        ]
        for row in self.rows["gateways"]:
            if row["interface"] == f"e{vid}":
                row["filter_in"] = "chain1"

    def _hosts(self):
        names = [(vid, switch, n) for vid in VIDS for switch in ("sw-a", "sw-b") for n in (1, 2)]
        automatic = self.random.choice(names) if "automatic" in self.kinds else None
        wrong = self.random.choice(names)
        apart = self.random.choice(("sw-a", "sw-b")) if "isolated" in self.kinds else None
        for number, (vid, switch, n) in enumerate(names):
            name, port = f"h{vid}-{switch[-1]}{n}", f"p{vid}-{n}"
            isolated = switch == apart and self.random.random() < 0.7
            extra = {"isolated": "yes"} if isolated else {}
            self.port(
                switch,
                port,
                f"vlan_mode=access tag={vid}{' protected=true' if isolated else ''}",
                mode="access",
                pvid=vid,
                **extra,
            )
            last = 4 + number
            address, gateway = [f"10.7.{vid}.{last}/24"], [f"10.7.{vid}.1"]
            if vid == 20 and self.kinds & {"shared", "pair"} and n == 1:
                gateway = ["10.7.20.254"]
            if "proxy" in self.kinds and n == 2 and switch == "sw-b":
                address = [f"10.7.{vid}.{last}/16"]
            if self.dual and self.random.random() < 0.85:
                address.append(f"fd07:{vid}::{last:x}/64")
                gateway.append("fe80::1")
                if (vid, switch, n) == wrong and "wrong6" in self.kinds:
                    gateway[-1] = "fe80::9"
                elif (vid, switch, n) == wrong and "none6" in self.kinds:
                    gateway.pop()
                elif self.random.random() < 0.2:
                    gateway[-1] = f"fd07:{vid}::1"
                if self.random.random() < 0.2:
                    address, gateway = address[1:], gateway[1:] or ["none"]
            if (vid, switch, n) == automatic:
                address, gateway = [f"169.254.7.{last}/16"], ["none"]
            told = {
                "address": " ".join(address),
                "gateway": " ".join(gateway),
                "mac": f"02:07:00:00:{vid:02x}:{last:02x}",
            }
            self.rows["hosts"].append({"host": name, **told, "device": switch, "port": port, "link": "up"})
