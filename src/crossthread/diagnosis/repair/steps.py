"""The steps of a repair: which changes are made in one go, in words, and what a device forgets when they are made."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding
from crossthread.network.hosts.station import Interface
from crossthread.network.topology.names import End
from crossthread.survey.changes import Change, merge_changes
from crossthread.survey.records import Gateway, Host, Port
from crossthread.values import NONE, VlanSet

_SEEN = {"oper", "link", "virtual_state"}
"""Columns that are observed, not set: what will be seen once something else is done."""
_WORDS = {
    "mode": "make it {}", "pvid": "put its untagged frames into VLAN {}", "tagging": "set its tag type to {}",
    "allowed_macs": "admit {}", "mac_limit": "admit {} stations", "speed": "set its speed to {} Mb/s",
    "duplex": "set its duplex to {}", "mtu": "set its largest frame to {}", "vid": "set its tag to {}",
    "gateway": "set its gateway to {}", "address": "set its address to {}", "lag": "make it a member of {}",
    "priority": "set its priority to {}", "cost": "set its path cost to {}", "virtual": "set its shared address to {}",
    "edge": "edge port: {}", "state": "make it {}", "name": "name it {}", "region": "set its region to {}",
    "vlans": "let VLANs {} follow it", "protocol": "run {}", "isolated": "isolate it: {}",
    "table": "put it into the routing table “{}”",
}  # fmt: skip


class Draft(NamedTuple):
    """Some changes of one thing: a port, an interface, a host, a VLAN on a device, a route, a device."""

    thing: tuple[str, ...]
    """Its table, device and name."""
    changes: tuple[Change, ...]
    rules: tuple[str, ...]
    clears: bool = False
    """Whether it only makes room for another step."""

    @property
    def device(self) -> str | None:
        """Where it is done; None at a host."""
        return self.thing[1] or None

    def sets(self, table: str, column: str) -> object | None:
        """The value that it gives to a column."""
        return next((c.cells[column] for c in self.changes if c.table == table and column in c.cells), None)


def wakes(change: Change) -> bool:
    """Whether a change does no more than to bring up a port or a host, or to let in whoever is at a port."""
    up = {"admin": "up", "oper": "up", "link": "up", "authorized": "yes"}
    return not change.delete and all(up.get(column) == value for column, value in change.cells.items())


def drafts(findings: Iterable[Finding]) -> list[Draft]:
    """The steps of some findings' mends, unordered: what concerns one thing together.

    What will only be observed afterwards goes with the step that brings it about.
    """
    found: dict[tuple[str, ...], list[Change]] = {}
    rules: dict[tuple[str, ...], list[str]] = {}
    for finding in findings:
        last: tuple[str, ...] | None = None
        effects: list[Change] = []
        for change in finding.repair:
            if change.table in ("ports", "hosts", "gateways") and not change.delete and set(change.cells) <= _SEEN:
                effects.append(change)
                continue
            last = _thing(change)
            found.setdefault(last, []).append(change)
            rules.setdefault(last, []).append(finding.rule)
        if effects and last is None:
            last = _thing(effects[0])
            rules.setdefault(last, []).append(finding.rule)
        if last is not None:
            found.setdefault(last, []).extend(effects)
    for thing, held in [*found.items()]:  # an interface that is a port, and has been shut with it, is one thing
        interface = ("gateways", *thing[1:])
        if thing[0] == "ports" and interface in found and all(map(wakes, (*held, *found[interface]))):
            found[interface] = [*held, *found[interface]]
            rules[interface] = [*rules[thing], *rules[interface]]
            del found[thing]
    return [Draft(thing, merge_changes(held), tuple(dict.fromkeys(rules[thing]))) for thing, held in found.items()]


def _thing(change: Change) -> tuple[str, ...]:
    key = {column: str(value) for column, value in change.key.items()}
    if change.table == "hosts":
        return "hosts", "", key.get("host", "")
    table = "ports" if change.table == "tree_ports" else change.table
    name = {"ports": "port", "gateways": "interface", "vlans": "vid", "trees": "instance"}.get(table, "")
    rest = key.get(name, "") if name else " ".join(v for column, v in key.items() if column != "device")
    return table, key.get("device", ""), rest


def words(context: Context, draft: Draft) -> str:
    """A step in one sentence."""
    table, device, name = draft.thing
    own = [c for c in draft.changes if c.table != "hosts" or table == "hosts"]
    said = [part for change in own for part in _said(context, change, draft)]
    missing = "bring its link up: put the cable in, or mend it"
    if table == "gateways" and not any(s.row.port for s in _interface(context, device, name)):
        missing = "bring it up: it needs a port that is up and carries its VLAN"
    parts = list(dict.fromkeys(said)) or [missing]
    if table == "hosts":
        return f"{name}: {'; '.join(parts)}"
    if table == "vlans":
        return f"{device}: {'; '.join(parts)}"
    return f"{device} {name}: {'; '.join(parts)}" if table in ("ports", "gateways") else f"{device}: {'; '.join(parts)}"


def _interface(context: Context, device: str, name: str) -> list[Interface]:
    """All stations of one interface: it has one for each address."""
    return [s for s in context.network.stations.on_device.get(device, ()) if s.name == name]


def _said(context: Context, change: Change, draft: Draft) -> list[str]:
    if change.table == "routes":
        key = change.key
        hop = key.get("next_hop") or change.cells.get("next_hop")
        opened = set(change.cells) == {"kind"}
        verb = "remove the route" if change.delete else "pass on what matches the route" if opened else "add a route"
        out = change.cells.get("interface")
        held = context.network.routing.routes(str(key.get("device"))) if out and not change.delete else ()
        there = any((row.prefix, row.next_hop, row.table) == (key.get("prefix"), hop, key.get("table")) for row in held)
        verb, last = ("send out", f" of {out} what goes") if there else (verb, "")
        table = f" in table “{key['table']}”" if key.get("table") else ""
        return [f"{verb}{last} to {key.get('prefix')}" + (f" by {hop}" if hop and hop != NONE else "") + table]
    if change.delete:
        return ["remove it"]
    if change.table == "devices":
        if change.cells.get("routing6") == "yes":
            return ["turn IPv6 routing on"]
        return ["turn routing on"] if change.cells.get("routing") == "yes" else _plain(change)
    if change.table == "vlans":
        vid = change.key.get("vid")
        exists = context.network.fabric.vlan_row(str(change.key.get("device")), int(str(vid)))
        return [f"create VLAN {vid}"] if exists is None else [f"make VLAN {vid} active"]
    if draft.clears:
        return ["clear its address"] if "address" in change.cells else ["clear its tag"]
    if change.table == "gateways" and _is_new(context, change):
        return _new_address(change)
    if change.table == "gateways" and change.cells.get("admin") == "up":
        return ["bring it up", *_plain(change, {"admin", "oper"})]
    if change.table == "hosts" and "vid" in change.cells:
        vid = change.cells["vid"]
        says = f"let it tag its frames with VLAN {vid}" if vid not in ("", NONE) else "let it send without a tag"
        return [says, *_plain(change, {"vid", "oper"})]
    if change.table != "ports":
        return _plain(change, {"oper"})
    return _port_words(context, change)


def _is_new(context: Context, change: Change) -> bool:
    """Whether an interface has no row yet with the address that a change gives it."""
    own = context.network.stations.on_device.get(context.network.names.spelled[str(change.key.get("device"))], ())
    known = {s.row.address for s in own if s.name == change.key.get("interface")}
    return change.key.get("address") not in (None, "", NONE) and not known & {change.key["address"], None}


def _new_address(change: Change) -> list[str]:
    cells = change.cells
    where = f", in VLAN {cells['vid']}" if cells.get("vid") else ""
    if cells.get("port") and cells.get("port") != change.key.get("interface"):
        where += f", {'without a tag' if cells.get('untagged') == 'yes' else 'tagged'} on {cells['port']}"
    if cells.get("table"):
        where += f", in the routing table “{cells['table']}”"
    shared = [f"let it share {cells['virtual']}"] if cells.get("virtual") not in (None, "", NONE) else []
    return [f"give it the address {change.key['address']}{where}", *shared, "bring it up"]


def _port_words(context: Context, change: Change) -> list[str]:
    row = context.port(End(str(change.key["device"]), str(change.key["port"])))
    cells, found = change.cells, list[str]()
    if cells.get("authorized") == "yes":
        found.append("let its station in: mend what it logs in with, or take the port out of access control")
    if cells.get("isolated") == "no":
        found.append("take it out of the isolation")
    if cells.get("admin") == "up":
        found.append("bring it up")
    mode = cells.get("mode") or (row.mode if row is not None else None)
    if "mode" in cells:
        found.append(f"make it {'an' if cells['mode'] == 'access' else 'a'} {cells['mode']} port")
    if "pvid" in cells and mode == "access":
        found.append(f"put it into VLAN {cells['pvid']}")
    elif "pvid" in cells:
        found.append("take no untagged frames" if cells["pvid"] in (NONE, 0) else f"native VLAN {cells['pvid']}")
    if cells.get("allowed"):
        wanted = VlanSet.parse(str(cells["allowed"]))
        had = row.allowed if row is not None else None
        grows = "mode" not in cells and had is not None and had.bits and not had - wanted
        added = wanted - had if grows and had is not None else wanted
        found.append(f"carry VLAN{'s' * (len(added) > 1)} {added}{' as well' * (added != wanted)}")
    if "forbidden" in cells and row is not None and row.forbidden is not None:
        found.append(f"forbid VLAN {row.forbidden - VlanSet.parse(str(cells['forbidden']))} there no longer")
    if "allowed_macs" in cells and row is not None and row.allowed_macs:
        fresh = [mac for mac in str(cells["allowed_macs"]).split() if mac not in row.allowed_macs]
        return [*found, f"admit {' '.join(fresh)} as well", *_plain(change, _TOLD | {"allowed_macs"})]
    return [*found, *_plain(change, _TOLD)]


_TOLD = {"admin", "oper", "mode", "pvid", "allowed", "untagged", "authorized", "isolated", "forbidden"}


def _plain(change: Change, but: Iterable[str] = ()) -> list[str]:
    cells = {column: value for column, value in change.cells.items() if column not in but}
    both = {"address", "gateway"}  # of two versions of IP
    said = {column: str(value).replace(" ", " and ") if column in both else value for column, value in cells.items()}
    return [_WORDS.get(column, f"set {column} to {{}}").format(value) for column, value in said.items()]


def loses(context: Context, draft: Draft) -> str | None:
    """What a device forgets, or who else is moved, when a step is made; None if nothing is."""
    table, device, name = draft.thing
    if table == "gateways":
        own = _interface(context, device, name)
        rows = [s.row for s in own if isinstance(s.row, Gateway)]
        if any("vid" in c.cells for c in draft.changes) and any(row.port for row in rows):
            listed = ", ".join(row.address for row in rows if row.address and row.address != NONE)
            return (
                f"many devices drop an interface's address when its tag changes: put {listed} back" if listed else None
            )
        return None
    if table == "hosts":
        row = next((s.row for s in [context.network.stations.hosts.get(name.casefold())] if s is not None), None)
        known = isinstance(row, Host) and row.gateway not in (None, NONE) and row.address != NONE
        if known and draft.sets("hosts", "address") is not None and draft.sets("hosts", "gateway") is None:
            assert isinstance(row, Host)
            return f"the gateway may go with the old address: put {row.gateway} back"
        return None
    end = End(device, name)
    port = context.port(end) if table == "ports" else None
    return _port_loses(context, draft, end, port) if port is not None else None


def _port_loses(context: Context, draft: Draft, end: End, port: Port) -> str | None:
    mode, had = draft.sets("ports", "mode"), port.mode
    if mode == "access" and had in ("trunk", "hybrid"):
        return f"its trunk settings: allowed {port.allowed}, native {port.pvid or NONE}"
    if mode in ("trunk", "hybrid") and had == "access":
        return f"its access VLAN {port.pvid or NONE}"
    if draft.sets("ports", "pvid") is not None and had == "access":
        others = [host.name for host in context.hosts_at(end)]
        if len(others) > 1:
            return f"everything on this port moves: {', '.join(others[:4])}" + (" …" if len(others) > 4 else "")
    return None


def clear(context: Context, draft: Draft) -> Draft:
    """A step that empties what another step needs first."""
    table, device, name = draft.thing
    if table == "hosts":
        return Draft(draft.thing, (Change("hosts", {"host": name}, {"address": NONE}),), draft.rules, True)
    rows = [s.row for s in _interface(context, device, name)]
    keys = [{"device": device, "interface": name, "address": getattr(row, "address", None) or ""} for row in rows]
    if (first := _readdressed(context, draft)) is not None:
        return Draft(draft.thing, (Change(table, first.key, {"address": NONE}),), draft.rules, True)
    changes = tuple(Change("gateways", key, {"vid": "", "oper": "down"}) for key in keys)
    return Draft(draft.thing, changes, draft.rules, True)


def put_back(context: Context, draft: Draft) -> Draft:
    """The step that sets again what was cleared: the interface works as before."""
    if draft.thing[0] != "gateways":
        return draft
    if (first := _readdressed(context, draft)) is not None:
        again = Change(first.table, {**first.key, "address": NONE}, first.cells)
        return draft._replace(changes=tuple(again if change is first else change for change in draft.changes))
    rows = context.network.stations.on_device.get(draft.thing[1], ())
    up = any(s.name == draft.thing[2] and s.row.oper == "up" for s in rows)
    return draft._replace(changes=_with(draft.changes, {"oper": "up"} if up else {}))


def _readdressed(context: Context, draft: Draft) -> Change | None:
    """The first change of an address that an interface has now, if it has no row without one besides."""
    held = {s.row.address for s in _interface(context, *draft.thing[1:3])}
    known = (one for one in draft.changes if "address" in one.cells and one.key.get("address") in held)
    return next(known, None) if not held & {None, "", NONE} else None


def _with(changes: Sequence[Change], cells: Mapping[str, object]) -> tuple[Change, ...]:
    return tuple(Change(c.table, c.key, {**c.cells, **cells}, c.delete) for c in changes)
