"""Small networks of real switches, a router and hosts that have what stands between: verdicts against real pings.

    sudo python benchmarks/kinds.py [COUNT] [SEED] [--keep FOLDER]

Each network is made of Open vSwitch bridges, a Linux router with a port for each VLAN and Linux hosts, in namespaces of
its own that are gone when it ends. It gets some of: both versions of IP with link-local gateways, isolated ports,
packet filters of the router, routes that discard, a bundle between the switches (with and without LACP, with one end
that does not speak it), a service-tag tunnel in the uplink, a gateway address that is shared, a host without an
address, a VLAN left out at one end of the uplink; the two switches have a management address each, with a default
route or without. Then every host pings every other, by each version that both have, hosts, switches and the router ping
each other, and the verdicts of the survey must agree.

Needs Linux, root, openvswitch-switch, nftables, iproute2 and ping. No timings: it says what agrees.
"""

import argparse
import ipaddress
import json
import os
import random
import shutil
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

WORK = Path("/run/kinds")
QUIET = """for d in /proc/sys/net/ipv4/conf/*; do echo 0 > $d/rp_filter; echo 0 > $d/send_redirects; done
for d in /proc/sys/net/ipv6/conf/*; do echo 0 > $d/accept_dad; echo 0 > $d/accept_ra; done
for d in all default; do echo 0 > /proc/sys/net/ipv6/conf/$d/accept_dad; done
ip link set lo up"""
VIDS = (10, 20, 30)
KINDS = ("isolated", "filter", "discard", "shared", "automatic", "off6", "wrong6", "none6", "proxy", "pruned")


def run(*argv, check=True):
    done = subprocess.run(list(map(str, argv)), capture_output=True, text=True, timeout=120, check=False)
    if check and done.returncode:
        raise RuntimeError(f"{' '.join(map(str, argv))}: {done.stderr.strip()[-500:]}")
    return done.stdout


def inside(name, script, check=True):
    return run("nsenter", f"--net=/run/netns/{name}", "sh", "-c", f"set -e\n{script}", check=check)


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
        self.rows = {
            name: [] for name in ("devices", "ports", "neighbors", "gateways", "routes", "hosts", "filters", "trees")
        }
        self.cables, self.settings, self.nft, self.router = [], {}, [], []
        self.switches = ["sw-a", "sw-b", *(["mid-a", "mid-b"] if self.tunnel else [])]
        self._switches()
        self._router()
        self._hosts()
        self.managed = {}
        self._manage()

    def _manage(self):
        """A management interface on each of the two switches, in some VLAN; one without a default route, perhaps."""
        for last, device in enumerate(("sw-a", "sw-b"), 201):
            vid, routed = self.random.choice(VIDS), self.random.random() < 0.75
            self.managed[device] = vid, f"10.7.{vid}.{last}", routed
            self.rows["gateways"].append({
                "device": device, "interface": f"vlan{vid}", "address": f"10.7.{vid}.{last}/24", "vid": vid,
                "admin": "up", "oper": "up", "proxy_arp": "no",
            })  # fmt: skip
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
        for d, x, e, y in ((a, p, b, q), (b, q, a, p)):
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
                self.rows["gateways"].append({
                    "device": "rt", "interface": f"e{vid}", "address": address, "port": f"e{vid}", "untagged": "yes",
                    "admin": "up", "oper": "up", "filter_in": "none", "filter_out": "none", **cells,
                })  # fmt: skip
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
            self.port(switch, port, f"vlan_mode=access tag={vid}{' protected=true' if isolated else ''}",
                      mode="access", pvid=vid, **extra)  # fmt: skip
            last = 4 + number
            address, gateway = [f"10.7.{vid}.{last}/24"], [f"10.7.{vid}.1"]
            if vid == 20 and "shared" in self.kinds and n == 1:
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


class Live:
    """The same running."""

    def __init__(self, campus):
        self.campus, self.procs = campus, []

    def start(self):
        Path("/run/netns").mkdir(exist_ok=True)
        WORK.mkdir()
        rows, campus = self.campus.rows, self.campus
        for name in ("sw", "rt", *(host["host"] for host in rows["hosts"])):
            run("ip", "netns", "add", name)
        self._switch()
        for a, p, b, q in campus.cables:
            self._cable(a, p, b, q)
        for host in rows["hosts"]:
            self._cable(host["device"], host["port"], host["host"], "e0", host["mac"])
        for name in ("rt", *(host["host"] for host in rows["hosts"])):
            inside(name, QUIET)
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
        for device, (vid, address, routed) in campus.managed.items():
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
        inside("rt", "\n".join(self._router()))
        for host in rows["hosts"]:
            inside(host["host"], "\n".join(self._host(host)))

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

    def _cable(self, a, p, b, q, mac=None):
        ends = []
        for device, port in ((a, p), (b, q)):
            switched = device in self.campus.switches
            ends.append(("sw", f"{device}_{port}") if switched else (device, port))
        (ns, name), (far, other) = ends
        own = ("address", mac) if mac else ()
        run("ip", "link", "add", name, "netns", ns, "type", "veth", "peer", "name", other, *own, "netns", far)
        for where, port in ends:
            inside(where, f"ip link set {port} up; ethtool -K {port} tx off rx off >/dev/null 2>&1 || true")

    def _router(self):
        rows, campus = self.campus.rows, self.campus
        device = next(d for d in rows["devices"] if d["device"] == "rt")
        yield "for d in /proc/sys/net/ipv4/conf/*; do echo 1 > $d/arp_ignore; echo 2 > $d/arp_announce; done"
        yield "for d in /proc/sys/net/ipv6/conf/*; do echo 1 > $d/keep_addr_on_down; done"
        for row in rows["gateways"]:
            if row["device"] != "rt":
                continue
            name = row["interface"]
            if not row["address"].startswith("fe80") or campus.dual:
                yield f"ip addr replace {row['address']} dev {name}"
            if row.get("virtual") and row["virtual_state"] == "master":
                yield f"ip addr replace {row['virtual']}/32 dev {name}"
            if row["proxy_arp"] == "yes":
                yield f"echo 1 > /proc/sys/net/ipv4/conf/{name}/proxy_arp"
                yield f"echo 0 > /proc/sys/net/ipv4/neigh/{name}/proxy_delay"
        yield "echo 1 > /proc/sys/net/ipv4/ip_forward"
        yield f"echo {int(device['routing6'] == 'yes')} > /proc/sys/net/ipv6/conf/all/forwarding"
        for row in rows["routes"]:
            if row["device"] != "rt":
                continue
            yield f"ip {'-6' if ':' in row['prefix'] else '-4'} route add {row['kind']} {row['prefix']}"
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
            return {pair: value or one(pair) for pair, value in first.items()}

    def ping_gateways(self):
        """Who gets an answer among hosts, the interfaces of router and switches, and these devices as such."""
        hosts, rows = self.campus.rows["hosts"], self.campus.rows["gateways"]
        own = {h["host"]: [a.partition("/")[0] for a in h["address"].split() if ":" not in a] for h in hosts}
        switches = {device: address for device, (_, address, _) in self.campus.managed.items()}
        senders = [*(host for host, addresses in own.items() if addresses), *switches]
        asked = [
            (sender, f"{row['device']} {row['interface']}", row["address"].partition("/")[0])
            for sender in senders for row in rows
            if row["address"].startswith("10.") and row["device"] != sender
        ]  # fmt: skip
        asked += [
            (sender, other, switches[other]) for sender in ("rt", *switches) for other in switches if other != sender
        ]
        asked += [
            (sender, name, addresses[0]) for sender in ("rt", *switches) for name, addresses in own.items() if addresses
        ]
        with ThreadPoolExecutor(64) as pool:
            answers = list(pool.map(lambda one: self._ping(one[0], one[2]) or self._ping(one[0], one[2]), asked))
        return {(source, target): answer for (source, target, _), answer in zip(asked, answers, strict=True)}

    @staticmethod
    def _ping(host, address):
        argv = ["nsenter", f"--net=/run/netns/{host}", "ping", "-c", "2", "-i", "0.2", "-W", "0.6", "-q", address]
        return subprocess.run(argv, capture_output=True, timeout=30, check=False).returncode == 0

    def stop(self):
        for process in reversed(self.procs):
            process.terminate()


def _one_family(survey):
    """The survey by IPv4 alone, in which the router is pinged."""
    from crossthread.network import Network

    return Network(survey).survey


def compare(seed, keep):
    """Build a network, ping, and compare with what is said of its survey."""
    from crossthread import Survey, matrix, why, write_survey
    from crossthread.survey import Info
    from crossthread.survey.records import READ_IN_FULL

    campus = Campus(seed)
    survey = Survey.of(Info(title=f"kinds {seed}", complete=READ_IN_FULL), **campus.rows)
    live = Live(campus)
    live.start()
    time.sleep(6 if campus.bundle in ("lacp", "deaf") else 2)
    real = live.ping_all()
    routed = live.ping_gateways()
    live.stop()
    said = {(a, b): verdict for a, b, verdict in matrix(survey).reaches}
    wrong = [f"{a} {b}: {said[a, b]}, real {value}" for (a, b), value in real.items()
             if said[a, b] != ("works" if value else "fails") and said[a, b] != "unknown"]  # fmt: skip
    unknown = sum(verdict == "unknown" for verdict in said.values())
    four = _one_family(survey)
    for (a, b), value in routed.items():
        verdict = why(four, a, b).verdict
        unknown += verdict == "unknown"
        if verdict not in ("unknown", "works" if value else "fails"):
            wrong.append(f"{a} to {b}: {verdict}, real {value}")
    failing = [pair for pair, value in real.items() if not value]
    told: dict[str, int] = {}
    for pair in random.Random(seed).sample(failing, min(4, len(failing))):
        answer = why(survey, *pair)
        for name in dict.fromkeys(f.rule for f in answer.findings) or [f"({answer.verdict}, nothing named)"]:
            told[name] = told.get(name, 0) + 1
    if keep:
        write_survey(survey, Path(keep) / f"kinds-{seed}")
        (Path(keep) / f"kinds-{seed}.json").write_text(json.dumps([[*pair, value] for pair, value in real.items()]))
    kinds = sorted(
        campus.kinds
        | {k for k in (campus.bundle, "tunnel" if campus.tunnel else None, "dual" if campus.dual else None) if k}
    )
    return {
        "seed": seed,
        "kinds": kinds,
        "pairs": len(real) + len(routed),
        "wrong": wrong,
        "unknown": unknown,
        "failing": len(failing),
        "told": told,
    }


def main():
    parser = argparse.ArgumentParser(description=__doc__.split("\n", 1)[0])
    parser.add_argument("count", type=int, nargs="?", default=10)
    parser.add_argument("seed", type=int, nargs="?", default=1)
    parser.add_argument("--keep", default="")
    parser.add_argument("--inside", action="store_true", help=argparse.SUPPRESS)
    args = parser.parse_args()
    if args.inside:
        run("mount", "--make-rprivate", "/")
        run("mount", "-t", "tmpfs", "kinds", "/run")
        print(json.dumps(compare(args.seed, args.keep)))
        sys.stdout.flush()
        os._exit(0)
    if not shutil.which("ovs-vsctl") or os.geteuid():
        sys.exit("needs root and Open vSwitch")
    total = {"pairs": 0, "wrong": 0, "unknown": 0}
    for seed in range(args.seed, args.seed + args.count):
        argv = ["unshare", "--mount", "--net", "--pid", "--fork", "--kill-child", "--mount-proc", sys.executable,
                __file__, "1", str(seed), "--inside", "--keep", args.keep]  # fmt: skip
        done = subprocess.run(argv, capture_output=True, text=True, timeout=300, check=False)
        if not done.stdout.strip():
            print(seed, "not built:", done.stderr.strip()[-300:])
            continue
        found = json.loads(done.stdout.strip().splitlines()[-1])
        for name in total:
            total[name] += len(found[name]) if name == "wrong" else found[name]
        counts = (
            f"{found['failing']} of {found['pairs']} fail; {len(found['wrong'])} wrong, {found['unknown']} unknown;"
        )
        print(seed, *found["kinds"], counts, found["told"], *found["wrong"][:3], sep="  ", flush=True)
    print(f"{total['pairs']} pairs: {total['wrong']} contradict, {total['unknown']} unknown")


if __name__ == "__main__":
    main()
