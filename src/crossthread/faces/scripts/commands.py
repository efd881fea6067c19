"""A work order as shell commands, for devices that are Linux systems or run Open vSwitch.

Whether a device is one is told by the words of its platform or software. Every name out of a survey is quoted.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from shlex import quote

from crossthread.diagnosis.repair.together import adds_interface
from crossthread.diagnosis.repair.work_order import WorkStep
from crossthread.errors import visible
from crossthread.network.network import Network
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change
from crossthread.survey.records import Gateway, Port
from crossthread.values import NO_VID, NONE, VlanSet


def as_commands(network: Network, order: Sequence[WorkStep]) -> str:
    """A script in the order of the work; what has no command stands in it as a comment."""
    lines = []
    for number, step in enumerate(order, 1):
        lines.append(f"# {number}. {visible(step.says, 200)}")
        if step.first:
            lines.append(f"# first: {visible(step.first, 200)}")
        kind = _kind(network, step.device)
        if kind is None:
            lines.append("#    by hand: " + ("a host" if step.device is None else "no such system is known there"))
            continue
        lines.append(f"# on {visible(str(step.device), 100)}:")
        lines += list(dict.fromkeys(line for c in step.changes for line in _lines(network, kind, c))) or [
            "#    by hand"
        ]
        if step.loses:
            lines.append(f"# loses: {visible(step.loses, 300)}")
        if step.wait:
            lines.append(f"sleep {step.wait:g}  # for {visible(str(step.wait_for), 200)}")
        if step.test:
            lines.append(f"# test: {visible(step.test, 200)}")
    return "\n".join(lines)


def _kind(network: Network, device: str | None) -> str | None:
    """`ovs`, `linux`, or None for anything else."""
    for row in network.survey.devices if device is not None else ():
        if network.names.spelled[row.device] == device:
            words = f"{row.platform or ''} {row.software or ''}".casefold()
            return "ovs" if "open vswitch" in words else "linux" if "linux" in words else None
    return None


def _lines(network: Network, kind: str, change: Change) -> Iterator[str]:
    key = {column: str(value) for column, value in change.key.items()}
    if change.table == "ports":
        row = network.port(End(key["device"], key["port"]))
        yield from _port(kind, key["port"], row, change)
    elif change.table == "gateways":
        yield from _interface(network, kind, key, change)
    elif change.table == "routes":
        hop = key.get("next_hop") or change.cells.get("next_hop")
        via = f" via {quote(str(hop))}" if hop and hop != NONE else ""
        table = f" vrf {quote(key['table'])}" if key.get("table") else ""
        out = f" dev {quote(str(change.cells['interface']))}" if change.cells.get("interface") else ""
        yield f"ip route {'del' if change.delete else 'replace'}{table} {quote(key['prefix'])}{via}{out}"
    elif change.table == "devices" and change.cells.get("routing") == "yes":
        yield "sysctl -w net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1"
    elif change.table == "devices" and change.cells.get("routing6") == "yes":
        yield "sysctl -w net.ipv6.conf.all.forwarding=1"
    elif change.table == "tree_ports" and "cost" in change.cells:
        cost = int(str(change.cells["cost"]))
        port = quote(key["port"])
        yield (
            f"ovs-vsctl set port {port} other_config:rstp-path-cost={cost}"
            if kind == "ovs"
            else f"bridge link set dev {port} cost {cost}"
        )


def _port(kind: str, name: str, row: Port | None, change: Change) -> Iterator[str]:
    port, cells = quote(name), change.cells
    if cells.get("admin") == "up":
        yield f"ip link set dev {port} up"
    if cells.get("isolated") == "no" and kind == "linux":
        yield f"bridge link set dev {port} isolated off"
    if cells.get("isolated") == "no" and kind == "ovs":
        yield f"ovs-vsctl set port {port} protected=false"
    if not {"mode", "pvid", "allowed"} & set(cells):
        return
    mode = str(cells.get("mode") or (row.mode if row is not None else "") or "access")
    given = cells.get("pvid", row.pvid if row is not None else None)
    pvid = int(str(given)) if given not in (None, NONE, "", NO_VID) else NO_VID
    told = cells.get("allowed")
    allowed = VlanSet.parse(str(told)) if told else (row.allowed if row is not None and row.allowed else VlanSet())
    if kind == "ovs":
        yield _switch_port(port, mode, pvid, allowed)
        return
    wanted = VlanSet(1 << pvid) if mode == "access" and pvid else allowed
    if row is not None:
        had = VlanSet(1 << row.pvid) if row.mode == "access" and row.pvid else row.allowed or VlanSet()
        yield from (f"bridge vlan del dev {port} vid {part}" for part in _ranges(had - wanted))
        wanted = wanted if "mode" in cells or "pvid" in cells else wanted - had
    yield from (f"bridge vlan add dev {port} vid {part}" for part in _ranges(wanted - VlanSet(1 << pvid & ~1)))
    if pvid and pvid in wanted:
        yield f"bridge vlan add dev {port} vid {pvid} pvid untagged"


def _ranges(vids: VlanSet) -> list[str]:
    return str(vids).split() if vids else []


def _switch_port(port: str, mode: str, pvid: int, allowed: VlanSet) -> str:
    listed = ",".join(map(str, allowed))
    trunks = f"set port {port} trunks={listed}" if len(allowed) < 4094 and listed else f"clear port {port} trunks"
    if mode == "access":
        return f"ovs-vsctl set port {port} vlan_mode=access tag={pvid} -- clear port {port} trunks"
    if pvid:
        return f"ovs-vsctl set port {port} vlan_mode=native-untagged tag={pvid} -- {trunks}"
    return f"ovs-vsctl set port {port} vlan_mode=trunk -- clear port {port} tag -- {trunks}"


def _interface(network: Network, kind: str, key: dict[str, str], change: Change) -> Iterator[str]:
    name, cells = quote(key["interface"]), change.cells
    own = [s.row for s in network.stations.on_device.get(key["device"], ()) if s.name == key["interface"]]
    rows = [row for row in own if isinstance(row, Gateway)]
    if adds_interface(change):
        yield from _new_address(name, key, change, bool(rows))
        return
    if "table" in cells:
        yield f"ip link set dev {name} {'master ' + quote(str(cells['table'])) if cells['table'] else 'nomaster'}"
    if "vid" in cells and kind == "ovs":
        tag = cells["vid"]
        yield f"ovs-vsctl set port {name} tag={int(str(tag))}" if tag else f"ovs-vsctl clear port {name} tag"
    elif "vid" in cells:
        yield f"ip link delete dev {name}"
        parent = next((row.port for row in rows if row.port), None)
        if cells["vid"] and parent:
            tag = int(str(cells["vid"]))
            yield f"ip link add link {quote(parent)} name {name} type vlan id {tag}"
            table = cells.get("table") or next((row.table for row in rows if row.table), None)
            yield from [f"ip link set dev {name} master {quote(str(table))}"] if table else []
            yield from (f"ip address add {quote(row.address)} dev {name}" for row in rows if row.address)
            yield f"ip link set dev {name} up"
    if cells.get("address") and cells["address"] != NONE:
        yield f"ip address add {quote(str(cells['address']))} dev {name}"
    if (cells.get("address") or change.delete) and key.get("address", NONE) not in ("", NONE):
        yield f"ip address del {quote(key['address'])} dev {name}"
    if cells.get("admin") == "up":
        yield f"ip link set dev {name} up"


def _new_address(name: str, key: dict[str, str], change: Change, known: bool) -> Iterator[str]:
    """An address for an interface, which is made first if nobody knows it; one on the bridge is made by hand."""
    cells, parent = change.cells, str(change.cells.get("port") or "")
    if not known and parent not in ("", key["interface"]) and cells.get("vid"):
        yield f"ip link add link {quote(parent)} name {name} type vlan id {int(str(cells['vid']))}"
    elif not known and not parent:
        yield f"#    by hand: make {visible(key['interface'], 100)}, in VLAN {cells.get('vid')} of the bridge"
    if cells.get("table"):
        yield f"ip link set dev {name} master {quote(str(cells['table']))}"
    yield f"ip address add {quote(key['address'])} dev {name}"
    yield f"ip link set dev {name} up"
    if cells.get("virtual") not in (None, "", NONE):
        yield f"#    by hand: let it share {visible(str(cells['virtual']), 100)}"
