"""What has gone wrong on the demo campus by the time somebody asks."""

from __future__ import annotations

from crossthread.demo.campus import healthy
from crossthread.survey import Survey
from crossthread.survey.changes import Change, apply_changes


def _port(device: str, port: str, **cells: object) -> Change:
    return Change("ports", {"device": device, "port": port}, dict(cells))


def _host(host: str, **cells: object) -> Change:
    return Change("hosts", {"host": host}, dict(cells))


def _tag(interface: str, address: str, vid: int) -> Change:
    return Change("gateways", {"device": "quay-router", "interface": interface, "address": address}, {"vid": vid})


FAULTS: dict[str, list[Change]] = {
    "the foghorn's port was put into the visitors' VLAN": [_port("ropehall", "port4", pvid=30)],
    "the exhibits' VLAN was left out at one end of the Rope Hall's uplink": [
        _port("ropehall", "port1", allowed="10 30 40 50 90")
    ],
    "the router's tags for boatyard and cameras were swapped": [
        _tag("port1.40", "10.61.40.1/24", 50),
        _tag("port1.50", "10.61.50.1/24", 40),
        _tag("port1.50", "fd61:c7:0:50::ff/64", 40),
    ],
    "core-east lost its route to the cameras": [
        Change("routes", {"device": "core-east", "prefix": "10.61.50.0/24", "next_hop": "10.61.90.2"}, delete=True)
    ],
    "the archive's store has no gateway": [_host("archive-store", gateway="none")],
    "the curator's prefix is too long": [_host("curator-pc", address="10.61.10.31/25")],
    "the yard office uses a gateway that does not exist": [_host("yard-office-pc", gateway="10.61.40.254")],
    "the galley's uplink was set to access": [_port("galley", "port1", mode="access", pvid=10, allowed="")],
    "the shop till's port was shut": [
        _port("lighthouse-1", "port5", admin="down", oper="down"),
        _host("shop-till", link="down"),
    ],
    "the visitors' VLAN is suspended in the offices": [
        Change("vlans", {"device": "lighthouse-2", "vid": 30}, {"state": "suspended"})
    ],
    "the second ticket desk got a new computer, and its port admits only the old one": [
        _port("lighthouse-1", "port4", allowed_macs="02:5c:02:00:aa:01", violation="drop", violations=4127)
    ],
    "one end of the Sail Loft's uplink has another native VLAN": [_port("sail-loft", "port1", pvid=40)],
    "one end of the slipway's ring runs half duplex": [
        _port("slipway", "port2", duplex="half", late_collisions=918),
        _port("harbour-office", "port3", crc_errors=2210),
    ],
}
"""Each fault in words, and as changes of the healthy survey."""


def faulty() -> Survey:
    """The campus with all of them; the spanning tree did not move."""
    before = healthy()
    after = apply_changes(before, [change for changes in FAULTS.values() for change in changes])
    return Survey(**{**after.__dict__, "trees": before.trees, "tree_ports": before.tree_ports})
