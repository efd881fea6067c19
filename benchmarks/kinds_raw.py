"""What the devices of such a network list themselves, kept as whoever visits them would keep it."""

import json
import re
from pathlib import Path

from kinds_live import WORK, inside, run

_COMMON = {
    "ip-addr": "ip -j -d addr", "ip-link": "ip -j -d -s link", "ip-route": "ip -j -4 route show table all",
    "ip-route6": "ip -j -6 route show table all", "ip-rule": "ip -j rule", "ip-neigh": "ip -j neigh",
    "ip-netconf": "ip -j netconf",
}  # fmt: skip
_BRIDGE = {"bridge-link": "bridge -j -d link", "bridge-fdb": "bridge -j fdb"}


def keep(live, folder):
    """The listings of every device, each in a folder of its own; and the cables, as nobody announces itself here."""
    campus, folder = live.campus, Path(folder)
    for device in campus.switches:
        _switch(live, device, folder / device)
    for device in campus.routers:
        told = {name: inside(device, command) for name, command in _COMMON.items()}
        told["packet-filter"] = inside(device, "nft -j list ruleset")
        if "pair" in campus.kinds:
            told["shared-addresses"] = _shared(device)
        _write(folder / device, told)
    told_by_hand = {row["device"] for row in campus.rows["trees"] if row["protocol"] == "per-vlan"}
    for device in sorted(set(campus.bridges) - told_by_hand):
        _write(folder / device, {n: inside(device, c) for n, c in (_COMMON | _BRIDGE).items()})
    for host in campus.rows["hosts"]:
        told = {name: inside(host["host"], command) for name, command in _COMMON.items() if "netconf" not in name}
        _write(folder / host["host"], told)
    named = {(row["device"], row["port"]) for row in campus.rows["ports"]}
    cables = [
        {
            **row,
            "port": _called(campus, row["device"], row["port"]),
            "neighbor_port": _called(campus, row["neighbor"], row["neighbor_port"]),
        }
        for row in campus.rows["neighbors"]
        if (row["device"], row["port"]) in named
    ]
    hosts = [
        {
            "host": row["host"],
            "vid": row.get("vid"),
            "device": row["device"],
            "port": _called(campus, row["device"], row["port"]),
        }
        for row in campus.rows["hosts"]
    ]
    tables = ("devices", "ports", "trees", "tree_ports")
    typed = {name: [row for row in campus.rows[name] if row["device"] in told_by_hand] for name in tables}
    return {"neighbors": cables, "hosts": hosts, **typed}


def _called(campus, device, port):
    return f"{device}_{port}" if device in campus.switches else port


def _write(folder, told):
    folder.mkdir(parents=True)
    for name, text in told.items():
        if text.strip():
            (folder / f"{name}.{'json' if text.lstrip()[0] in '[{' else 'txt'}").write_text(text)


def _switch(live, device, folder):
    """One of the bridges of the one process that runs them all: what is listed of it alone."""
    prefix, database = f"{device}_", f"--db=unix:{WORK}/db.sock"
    own = [link for link in json.loads(inside("sw", "ip -j -d -s addr")) if link["ifname"].startswith(prefix)]
    own = [{**link, "link_netnsid": 0} for link in own]  # the other switch's ports are another device's
    told = {"ip-addr": json.dumps([link for link in own if not link["ifname"].endswith("_m")])}
    for table, name in (("Bridge", "ovs-bridge"), ("Port", "ovs-port"), ("Interface", "ovs-interface")):
        listed = json.loads(run("ovs-vsctl", database, "--format=json", "list", table))
        at = listed["headings"].index("name")
        listed["data"] = [
            row for row in listed["data"] if re.match(rf"{device}(_|$)", row[at]) and row[at][-2:] != "_m"
        ]
        told[name] = json.dumps(listed)
    told["ovs-fdb"] = run("ovs-appctl", "-t", WORK / "ctl", "fdb/show", device)
    told["ovs-flows"] = run("ovs-ofctl", "dump-flows", f"unix:{WORK}/{device}.mgmt")
    _write(folder, told)


def _shared(device):
    daemon = (WORK / f"{device}.pid").read_text().strip()
    told = Path(f"/proc/{daemon}/root/tmp/keepalived.json")
    run("sh", "-c", f"kill -s $(keepalived --signum=JSON) {daemon}; sleep 1")
    return told.read_text()
