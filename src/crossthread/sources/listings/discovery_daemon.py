"""The JSON of an LLDP daemon (its `json0` form): what a device says of itself, and whom it hears."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable

from crossthread.sources.listings.shapes import Entry
from crossthread.survey.records import Device, Neighbor, Port
from crossthread.values import NONE, parse_mac

_CAPABILITIES = {"bridge", "router", "station", "wlan", "repeater", "other"}


def read_chassis(device: str, document: Entry, source: str) -> list[Device]:
    """A device's own row from its local chassis."""
    found = []
    for local in _each(document.get("local-chassis")):
        for chassis in _each(local.get("chassis")):
            words = _capabilities(chassis)
            found.append(
                Device(
                    _value(chassis, "name") or device,
                    chassis=_identifier(chassis),
                    capabilities=words,
                    platform=_value(chassis, "descr"),
                    management=_value(chassis, "mgmt-ip"),
                    routing=None if words is None else ("yes" if "router" in words else "no"),
                    discovery="on",
                    source=source,
                )
            )
    return found


def read_neighbors(device: str, document: Entry, source: str) -> list[Neighbor]:
    """A row for each neighbour that a device hears."""
    found = []
    for holder in _each(document.get("lldp")):
        for heard in _each(holder.get("interface")):
            if not isinstance(heard.get("name"), str):
                continue
            for chassis, port in zip(_each(heard.get("chassis")), _each(heard.get("port")), strict=False):
                found.append(_neighbor(device, heard, chassis, port, source))
    return found


def lists_own_ports(document: Entry) -> bool:
    """Whether a document is about a device's own interfaces, and not about its neighbours."""
    heard = [one for holder in _each(document.get("lldp")) for one in _each(holder.get("interface"))]
    return bool(heard) and all("status" in one for one in heard)


def read_own_ports(device: str, document: Entry, ports: Iterable[Port], source: str) -> list[Port]:
    """What each of a device's ports does with neighbour discovery, and the VLAN that it tells phones to use."""
    held = list(ports)
    voices, found = voice_vlans(document), []
    for holder in _each(document.get("lldp")):
        for one in _each(holder.get("interface")):
            rows = [row for row in held if row.port == one.get("name")]
            if rows:
                cells: Entry = {"discovery": _DISCOVERY.get((_value(one, "status") or "").casefold())}
                if all(row.mode is None for row in rows):
                    cells["voice"] = voices.get(rows[0].port)
                found.append(Port(device, rows[0].port, source=source, **cells))
    return found


_DISCOVERY = {"rx and tx": "both", "rx only": "receive", "tx only": "send", "disabled": "off"}


def voice_vlans(document: Entry) -> dict[str, int]:
    """The VLAN that a phone is told to use, for each own interface on which that was announced (LLDP-MED)."""
    found: dict[str, int] = {}
    for holder in _each(document.get("lldp")):
        for heard in _each(holder.get("interface")):
            policies = [policy for med in _each(heard.get("lldp-med")) for policy in _each(med.get("policy"))]
            for policy in policies:
                inner = [_plain(vlan.get("vid")) for vlan in _each(policy.get("vlan"))]
                vid = next(filter(None, inner), None) or _value(policy, "vlan") or _plain(policy.get("vid"))
                kind = str(policy.get("apptype", policy.get("type", ""))).casefold()
                if kind == "voice" and vid and vid.isdecimal() and int(vid):
                    found[str(heard.get("name"))] = int(vid)
    return found


def _plain(value: object) -> str | None:
    return str(value) if isinstance(value, str | int) else None


def _neighbor(device: str, heard: Entry, chassis: Entry, port: Entry, source: str) -> Neighbor:
    ttl = _value(port, "ttl")
    pvid = None
    for vlan in _each(heard.get("vlan")):
        if vlan.get("pvid") in (True, "yes") and str(vlan.get("vlan-id", "")).isdecimal():
            pvid = int(vlan["vlan-id"])
    protocol = heard.get("via")
    return Neighbor(
        device,
        heard["name"],
        protocol=protocol.lower() if isinstance(protocol, str) else None,
        neighbor=_value(chassis, "name"),
        neighbor_chassis=_identifier(chassis),
        neighbor_port=_identifier(port),
        neighbor_port_description=_value(port, "descr"),
        management=_value(chassis, "mgmt-ip") or NONE,
        capabilities=_capabilities(chassis),
        platform=_value(chassis, "descr"),
        ttl=int(ttl) if ttl and ttl.isdecimal() else None,
        pvid=pvid,
        source=source,
    )


def _each(value: object) -> list[Entry]:
    return [entry for entry in value if isinstance(entry, dict)] if isinstance(value, list) else []


def _value(holder: Entry, name: str) -> str | None:
    for entry in _each(holder.get(name)):
        if isinstance(entry.get("value"), str) and entry["value"]:
            return str(entry["value"])
    return None


def _identifier(holder: Entry) -> str | None:
    text = _value(holder, "id")
    if text is not None:
        with contextlib.suppress(ValueError):
            return parse_mac(text)
    return text


def _capabilities(chassis: Entry) -> tuple[str, ...] | None:
    listed = _each(chassis.get("capability"))
    if not listed:
        return None
    words = [str(entry.get("type", "")).lower() for entry in listed if entry.get("enabled") is True]
    words = ["phone" if word in ("tel", "telephone") else word for word in words]
    return tuple(word for word in words if word in _CAPABILITIES | {"phone"})
