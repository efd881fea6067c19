"""The same networks running: Open vSwitch, Linux routers, bridges and hosts in namespaces."""

import json
import shutil
import subprocess
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

WORK = Path("/run/kinds")
QUIET = """for d in /proc/sys/net/ipv4/conf/*; do echo 0 > $d/rp_filter; echo 0 > $d/send_redirects; done
for d in /proc/sys/net/ipv6/conf/*; do echo 0 > $d/accept_dad; echo 0 > $d/accept_ra; done
for d in all default; do echo 0 > /proc/sys/net/ipv6/conf/$d/accept_dad; done
ip link set lo up"""


def run(*argv, check=True):
    done = subprocess.run(list(map(str, argv)), capture_output=True, text=True, timeout=120, check=False)
    if check and done.returncode:
        raise RuntimeError(f"{' '.join(map(str, argv))}: {done.stderr.strip()[-500:]}")
    return done.stdout


def inside(name, script, check=True):
    return run("nsenter", f"--net=/run/netns/{name}", "sh", "-c", f"set -e\n{script}", check=check)


class Live:
    """The same running."""

    def __init__(self, campus):
        self.campus, self.procs = campus, []
        trees = {row["device"] for row in campus.rows["trees"] if row["protocol"] == "per-vlan"}
        self.tagging = {
            (row["device"], row["port"]): row["allowed"].split()
            for row in campus.rows["ports"]
            if row["device"] in trees and row["mode"] == "trunk"
        }
        """The ports whose tags a switch in between puts on and takes off: this kernel has no tagged interfaces."""

    def start(self):
        Path("/run/netns").mkdir(exist_ok=True)
        WORK.mkdir()
        rows, campus = self.campus.rows, self.campus
        for name in ("sw", *campus.routers, *campus.bridges, *(host["host"] for host in rows["hosts"])):
            run("ip", "netns", "add", name)
        self._switch()
        self._plug()
        self._add_ports()
        self._manage()
        for name in campus.routers:
            inside(name, "\n".join(self._router(name)))
        for name in campus.bridges:
            inside(name, "\n".join(self._bridge(name)))
        for host in rows["hosts"]:
            inside(host["host"], "\n".join(self._host(host)))
            if host["address"].startswith("169.254.") and shutil.which("dhcpcd"):
                self._ask_for_address(host["host"])
        for switch, flow in campus.flows:
            run("ovs-ofctl", "add-flow", f"unix:{WORK}/{switch}.mgmt", flow)
            own = f"priority=900,in_port={switch}_m,actions=NORMAL"  # what the switch itself sends passes none of them
            run("ovs-ofctl", "add-flow", f"unix:{WORK}/{switch}.mgmt", own)
        if "pair" in campus.kinds:
            self._share()
        time.sleep(9 if campus.bridges or "pair" in campus.kinds else 6 if campus.bundle in ("lacp", "deaf") else 2)
        if "pair" in campus.kinds:
            self._see_who_holds()
        for host in rows["hosts"]:
            if host["address"].startswith("169.254."):
                self._see_address(host)

    def _plug(self):
        """Put the cables in."""
        rows, campus = self.campus.rows, self.campus
        for a, p, b, q in campus.cables:
            if "one-way" in campus.kinds and p == q == "u1":
                self._half_a_cable(a, p, b, q)
            else:
                self._cable(a, p, b, q)
        for host in rows["hosts"]:
            if host.get("vid"):
                self._tagger(host["device"], host["port"], {host["vid"]: (host["host"], "e0")}, host["mac"])
            else:
                self._cable(host["device"], host["port"], host["host"], "e0", host["mac"])
        for (device, port), vids in self.tagging.items():
            self._tagger(device, port, {vid: (device, f"{port}.{vid}") for vid in vids})
        for name in (*campus.routers, *(host["host"] for host in rows["hosts"])):
            inside(name, QUIET)

    def _add_ports(self):
        """Give the switches their ports and bundles."""
        rows, campus = self.campus.rows, self.campus
        bonds = {(r["device"], r["port"]) for r in rows["ports"] if r.get("lag")}
        for (device, port), settings in campus.settings.items():
            if port == "bond0":
                members = [f"{device}_{p}" for d, p in sorted(bonds) if d == device]
                self.vsctl(
                    "add-bond",
                    device,
                    f"{device}_bond0",
                    *members,
                    "--",
                    "set",
                    "port",
                    f"{device}_bond0",
                    *settings.split(),
                    f"other_config:bond-primary={members[0]}",  # without LACP the ends have to agree on one
                )
            else:
                self.vsctl(
                    "add-port", device, f"{device}_{port}", "--", "set", "port", f"{device}_{port}", *settings.split()
                )

    def _manage(self):
        """Give switches a management interface each."""
        for device, (vid, address, routed) in self.campus.managed.items():
            run("ip", "netns", "add", device)
            ends = ("netns", "sw", "type", "veth", "peer", "name", f"vlan{vid}", "netns", device)
            run("ip", "link", "add", f"{device}_m", *ends)
            for where, port in (("sw", f"{device}_m"), (device, f"vlan{vid}")):
                inside(where, f"ip link set {port} up; ethtool -K {port} tx off rx off >/dev/null 2>&1 || true")
            self.vsctl(
                "add-port", device, f"{device}_m", "--", "set", "port", f"{device}_m", "vlan_mode=access", f"tag={vid}"
            )
            default = f"ip route add default via 10.7.{vid}.1" if routed else "true"
            inside(device, f"{QUIET}\nip addr add {address}/24 dev vlan{vid}\n{default}")

    def _ask_for_address(self, name):
        """Start a DHCP client, to which nobody will answer."""
        inside(name, "ip -4 addr flush dev e0")
        argv = ["dhcpcd", "-4", "-B", "-y", "1", "-t", "0", "-C", "resolv.conf", "-C", "hostname", "e0"]
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        self.procs.append(subprocess.Popen(["nsenter", f"--net=/run/netns/{name}", *argv], **quiet))

    def _see_address(self, host):
        """What the client gave itself in the end: an address of its own choice."""
        for _ in range(30):
            told = json.loads(inside(host["host"], "ip -j -4 addr show dev e0"))
            own = [f"{one['local']}/{one['prefixlen']}" for link in told for one in link.get("addr_info", ())]
            if own:
                host["address"] = own[0]
                return
            time.sleep(1)
        raise RuntimeError(f"{host['host']} got no address")

    def _share(self):
        """Start the daemon that shares an address on each router, each with a place for files of its own."""
        for name in self.campus.routers:
            config = WORK / f"{name}.conf"
            preferred = 150 if name == self.campus.prefers else 100
            config.write_text(
                f"global_defs {{\n router_id {name}\n}}\nvrrp_instance shared {{\n state BACKUP\n interface e20\n"
                f" virtual_router_id 20\n priority {preferred}\n advert_int 1\n"
                " virtual_ipaddress {\n  10.7.20.254/24\n }\n}\n"
            )
            daemon = f"keepalived -f {config} -p {WORK}/{name}.pid -r {WORK}/{name}.vpid -n"
            argv = [
                "nsenter",
                f"--net=/run/netns/{name}",
                "unshare",
                "--mount",
                "sh",
                "-c",
                f"mount --make-rprivate /; mount -t tmpfs own /tmp; exec {daemon}",
            ]
            self.procs.append(subprocess.Popen(argv, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))

    def _see_who_holds(self):
        """Which router holds the shared address is not ours to say, but seen: both may, where they cannot hear."""
        for row in self.campus.rows["gateways"]:
            if row.get("virtual"):
                listed = inside(row["device"], f"ip -j -4 addr show dev {row['interface']}")
                row["virtual_state"] = "master" if f'"{row["virtual"]}"' in listed else "backup"

    def _bridge(self, name):
        rows = self.campus.rows
        trees = [row for row in rows["trees"] if row["device"] == name]
        ports = [row for row in rows["tree_ports"] if row["device"] == name]
        yield "ip link set lo up"
        if trees[0]["protocol"] == "off":
            yield "ip link add br0 type bridge stp_state 0"
            for row in rows["ports"]:
                if row["device"] == name:
                    yield f"ip link set {row['port']} master br0"
            yield "ip link set br0 up"
            return
        quick = "forward_delay 200 hello_time 100 max_age 600"
        for tree in trees:
            bridge = f"br{tree['instance']}"
            yield f"ip link add {bridge} type bridge stp_state 1 {quick} priority {tree['priority']}"
            yield f"ip link set {bridge} address {tree['address']}"
            for row in sorted((p for p in ports if p["instance"] == tree["instance"]), key=lambda p: p["number"]):
                member = row["port"]
                if (name, member) in self.tagging:
                    member = f"{row['port']}.{row['instance']}"
                yield f"ip link set {member} master {bridge}"
                yield f"bridge link set dev {member} cost {row['cost']}"
                if row.get("guard") == "bpdu":
                    yield f"bridge link set dev {member} guard on"
            yield f"ip link set {bridge} up"

    def _switch(self):
        run("ovsdb-tool", "create", WORK / "conf.db", "/usr/share/openvswitch/vswitch.ovsschema")
        env = ["env", f"OVS_RUNDIR={WORK}", f"OVS_DBDIR={WORK}", f"OVS_LOGDIR={WORK}", "nsenter", "--net=/run/netns/sw"]
        quiet = ["--no-chdir", "-vconsole:emer", "-vsyslog:emer"]
        for argv in (
            ["ovsdb-server", WORK / "conf.db", f"--remote=punix:{WORK}/db.sock", f"--unixctl={WORK}/dbctl"],
            ["ovs-vswitchd", f"unix:{WORK}/db.sock", f"--unixctl={WORK}/ctl"],
        ):
            self.procs.append(subprocess.Popen([*env, *map(str, argv), *quiet], stderr=subprocess.DEVNULL))
            time.sleep(0.6)
            if argv[0] == "ovsdb-server":
                run("ovs-vsctl", f"--db=unix:{WORK}/db.sock", "--no-wait", "init")
        self.vsctl("set", "Open_vSwitch", ".", "other_config:vlan-limit=2")
        for device in self.campus.switches:
            self.vsctl("add-br", device, "--", "set", "bridge", device, "datapath_type=netdev", "fail_mode=standalone")

    def vsctl(self, *argv):
        run("ovs-vsctl", "--timeout=20", f"--db=unix:{WORK}/db.sock", *argv)

    def _half_a_cable(self, a, p, b, q):
        """A cable that passes frames from `b` to `a` only: a bridge in the middle that belongs to nobody."""
        self.vsctl("add-br", "wire", "--", "set", "bridge", "wire", "datapath_type=netdev", "fail_mode=secure")
        for device, port, half in ((a, p, "wire_a"), (b, q, "wire_b")):
            ends = ("netns", "sw", "type", "veth", "peer", "name", half, "netns", "sw")
            run("ip", "link", "add", f"{device}_{port}", *ends)
            for name in (f"{device}_{port}", half):
                inside("sw", f"ip link set {name} up; ethtool -K {name} tx off rx off >/dev/null 2>&1 || true")
            self.vsctl("add-port", "wire", half)
        run("ovs-ofctl", "add-flow", f"unix:{WORK}/wire.mgmt", "in_port=wire_b,actions=output:wire_a")

    def _tagger(self, device, port, behind, mac=None):
        """A switch that puts the tags on for what is behind a port, and passes the frames of trees on."""
        name, held = f"tag_{device}_{port}", f"{device}_{port}"
        self.vsctl(
            "add-br",
            name,
            "--",
            "set",
            "bridge",
            name,
            "datapath_type=netdev",
            "fail_mode=standalone",
            "other_config:forward-bpdu=true",
        )
        if (device, port) not in self.tagging:  # of a host: the switch is between it and the bridge
            ends = ("netns", "sw", "type", "veth", "peer", "name", port, "netns", device)
            run("ip", "link", "add", held, *ends)
            for where, end in (("sw", held), (device, port)):
                inside(where, f"ip link set {end} up; ethtool -K {end} tx off rx off >/dev/null 2>&1 || true")
        self.vsctl("add-port", name, held, "--", "set", "port", held, "vlan_mode=trunk")
        for vid, (ns, end) in behind.items():
            near = f"{held}_{vid}"
            own = ("address", mac) if mac else ()
            run("ip", "link", "add", near, "netns", "sw", "type", "veth", "peer", "name", end, *own, "netns", ns)
            for where, one in (("sw", near), (ns, end)):
                inside(where, f"ip link set {one} up; ethtool -K {one} tx off rx off >/dev/null 2>&1 || true")
            self.vsctl("add-port", name, near, "--", "set", "port", near, "vlan_mode=access", f"tag={vid}")

    def _cable(self, a, p, b, q, mac=None):
        ends = []
        for device, port in ((a, p), (b, q)):
            switched = device in self.campus.switches or (device, port) in self.tagging
            ends.append(("sw", f"{device}_{port}") if switched else (device, port))
        (ns, name), (far, other) = ends
        own = ("address", mac) if mac else ()
        run("ip", "link", "add", name, "netns", ns, "type", "veth", "peer", "name", other, *own, "netns", far)
        for where, port in ends:
            inside(where, f"ip link set {port} up; ethtool -K {port} tx off rx off >/dev/null 2>&1 || true")

    def _router(self, router):
        rows, campus = self.campus.rows, self.campus
        device = next(d for d in rows["devices"] if d["device"] == router)
        yield "for d in /proc/sys/net/ipv4/conf/*; do echo 1 > $d/arp_ignore; echo 2 > $d/arp_announce; done"
        yield "for d in /proc/sys/net/ipv6/conf/*; do echo 1 > $d/keep_addr_on_down; done"
        for row in rows["gateways"]:
            if row["device"] != router:
                continue
            name = row["interface"]
            if not row["address"].startswith("fe80") or campus.dual:
                yield f"ip addr replace {row['address']} dev {name}"
            if row.get("virtual") and row.get("virtual_state") == "master":
                yield f"ip addr replace {row['virtual']}/32 dev {name}"
            if row["proxy_arp"] == "yes":
                yield f"echo 1 > /proc/sys/net/ipv4/conf/{name}/proxy_arp"
                yield f"echo 0 > /proc/sys/net/ipv4/neigh/{name}/proxy_delay"
        yield "echo 1 > /proc/sys/net/ipv4/ip_forward"
        yield f"echo {int(device['routing6'] == 'yes')} > /proc/sys/net/ipv6/conf/all/forwarding"
        for row in rows["routes"]:
            if row["device"] != router:
                continue
            yield f"ip {'-6' if ':' in row['prefix'] else '-4'} route add {row['kind']} {row['prefix']}"
        if router == "rt":
            yield from campus.nft

    def _host(self, host):
        yield "ip -6 addr flush dev e0 scope global; echo 0 > /proc/sys/net/ipv6/conf/e0/accept_ra"
        for address in host["address"].split():
            yield f"ip addr add {address} dev e0 {'nodad' if ':' in address else ''}"
        for gateway in host["gateway"].split():
            if gateway != "none":
                yield f"ip {'-6' if ':' in gateway else '-4'} route add default via {gateway} dev e0"

    def ping_all(self):
        """Who reaches whom: by each version that both have, all of them."""
        hosts = self.campus.rows["hosts"]
        own = {h["host"]: {(6 if ":" in a else 4): a.partition("/")[0] for a in h["address"].split()} for h in hosts}
        pairs = [(a["host"], b["host"]) for a in hosts for b in hosts if a is not b]

        def one(pair):
            common = own[pair[0]].keys() & own[pair[1]].keys()
            return bool(common) and all(self._ping(pair[0], own[pair[1]][version]) for version in sorted(common))

        with ThreadPoolExecutor(64) as pool:
            first = dict(zip(pairs, pool.map(one, pairs), strict=True))
        with ThreadPoolExecutor(8) as pool:  # once more, with less going on at a time
            failed = [pair for pair, value in first.items() if not value]
            return {**first, **dict(zip(failed, pool.map(one, failed), strict=True))}

    def ping_gateways(self):
        """Who gets an answer among hosts, the interfaces of router and switches, and these devices as such."""
        hosts, rows = self.campus.rows["hosts"], self.campus.rows["gateways"]
        own = {h["host"]: [a.partition("/")[0] for a in h["address"].split() if ":" not in a] for h in hosts}
        switches = {device: address for device, (_, address, _) in self.campus.managed.items()}
        senders = [*(host for host, addresses in own.items() if addresses), *switches]
        asked = [
            (sender, f"{row['device']} {row['interface']}", row["address"].partition("/")[0])
            for sender in senders
            for row in rows
            if row["address"].startswith("10.") and row["device"] != sender
        ]
        asked += [
            (sender, other, switches[other]) for sender in ("rt", *switches) for other in switches if other != sender
        ]
        asked += [
            (sender, name, addresses[0]) for sender in ("rt", *switches) for name, addresses in own.items() if addresses
        ]
        with ThreadPoolExecutor(64) as pool:
            answers = list(pool.map(lambda one: self._ping(one[0], one[2]) or self._ping(one[0], one[2]), asked))
        return {(source, target): answer for (source, target, _), answer in zip(asked, answers, strict=True)}

    def change(self, change):
        """Do what a change of the survey means; False if that is nothing that this network can do."""
        key, cells, device = change.key, change.cells, change.key.get("device")
        if change.table == "hosts" and not change.delete and not cells.keys() - {"address", "gateway"}:
            host = next(row for row in self.campus.rows["hosts"] if row["host"] == key["host"])
            host |= cells
            inside(
                host["host"], "ip addr flush dev e0; ip -4 route flush dev e0; ip -6 route flush dev e0", check=False
            )
            inside(host["host"], "\n".join(self._host(host)))
            return True
        if change.table == "ports" and device in self.campus.switches:
            words = {"pvid": "tag={}", "isolated": "protected={}", "allowed": "trunks={}"}
            if cells.keys() - words.keys():
                return False
            told = {column: str(value).replace(" ", ",") for column, value in cells.items()}
            told |= {"isolated": "false" if cells["isolated"] == "no" else "true"} if "isolated" in cells else {}
            for column, value in told.items():
                self.vsctl("set", "port", f"{device}_{key['port']}", words[column].format(value))
            return True
        if change.table == "devices" and cells.keys() == {"routing6"}:
            inside(device, f"echo {int(cells['routing6'] == 'yes')} > /proc/sys/net/ipv6/conf/all/forwarding")
            return True
        if change.table == "routes" and change.delete:
            inside(device, f"ip {'-6' if ':' in key['prefix'] else '-4'} route del {key['prefix']}")
            return True
        if change.table == "tree_ports" and device in self.campus.bridges:
            self._open(device, key["port"], cells)
            return True
        return False

    def _open(self, device, port, cells):
        """Take a guard off a port that it closed, and open the port again."""
        if "guard" in cells:
            inside(device, f"bridge link set dev {port} guard {'off' if cells['guard'] == 'none' else 'on'}")
        inside(device, f"ip link set {port} down; ip link set {port} up")
        time.sleep(7)

    @staticmethod
    def _ping(host, address):
        argv = ["nsenter", f"--net=/run/netns/{host}", "ping", "-c", "2", "-i", "0.2", "-W", "0.6", "-q", address]
        return subprocess.run(argv, capture_output=True, timeout=30, check=False).returncode == 0

    def stop(self):
        for process in reversed(self.procs):
            process.terminate()
