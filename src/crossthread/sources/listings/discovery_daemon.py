"""The JSON of an LLDP daemon (its `json0` form): what a device says of itself, and whom it hears."""

from __future__ import annotations

import contextlib
from typing import Any

from crossthread.survey.records import Device, Neighbor
from crossthread.values import NONE, parse_mac

_CAPABILITIES = {"bridge", "router", "station", "wlan", "repeater", "other"}


def read_chassis(device: str, document: dict[str, Any], source: str) -> list[Device]:
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


def read_neighbors(device: str, document: dict[str, Any], source: str) -> list[Neighbor]:
    """A row for each neighbour that a device hears."""
    found = []
    for holder in _each(document.get("lldp")):
        for heard in _each(holder.get("interface")):
            if not isinstance(heard.get("name"), str):
                continue
            for chassis, port in zip(_each(heard.get("chassis")), _each(heard.get("port")), strict=False):
                found.append(_neighbor(device, heard, chassis, port, source))
    return found


def voice_vlans(document: dict[str, Any]) -> dict[str, int]:
    """The VLAN that a phone is told to use, for each own interface on which that was announced (LLDP-MED)."""
    found: dict[str, int] = {}
    for holder in _each(document.get("lldp")):
        for heard in _each(holder.get("interface")):
            policies = [policy for med in _each(heard.get("lldp-med")) for policy in _each(med.get("policy"))]
            for policy in policies:
                vid = _value(policy, "vlan") or _value(policy, "vid") or _plain(policy.get("vid"))
                if str(policy.get("type", "")).casefold() == "voice" and vid and vid.isdecimal() and int(vid):
                    found[str(heard.get("name"))] = int(vid)
    return found


def _plain(value: Any) -> str | None:
    return str(value) if isinstance(value, str | int) else None


def _neighbor(
    device: str, heard: dict[str, Any], chassis: dict[str, Any], port: dict[str, Any], source: str
) -> Neighbor:
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


def _each(value: Any) -> list[dict[str, Any]]:
    return [entry for entry in value if isinstance(entry, dict)] if isinstance(value, list) else []


def _value(holder: dict[str, Any], name: str) -> str | None:
    for entry in _each(holder.get(name)):
        if isinstance(entry.get("value"), str) and entry["value"]:
            return str(entry["value"])
    return None


def _identifier(holder: dict[str, Any]) -> str | None:
    text = _value(holder, "id")
    if text is not None:
        with contextlib.suppress(ValueError):
            return parse_mac(text)
    return text


def _capabilities(chassis: dict[str, Any]) -> tuple[str, ...] | None:
    listed = _each(chassis.get("capability"))
    if not listed:
        return None
    words = [str(entry.get("type", "")).lower() for entry in listed if entry.get("enabled") is True]
    words = ["phone" if word in ("tel", "telephone") else word for word in words]
    return tuple(word for word in words if word in _CAPABILITIES | {"phone"})
