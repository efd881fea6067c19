"""The campus of the Skerrymoor Maritime Museum and Boatyard, as a survey. All of it is invented."""

from __future__ import annotations

from datetime import UTC, datetime
from ipaddress import ip_interface

from msgspec.structs import replace

from crossthread.demo.trees import with_trees
from crossthread.survey import Info, Survey
from crossthread.survey.records import (
    ArpEntry,
    Device,
    Gateway,
    Host,
    MacEntry,
    Neighbor,
    Port,
    Route,
    Vlan,
)
from crossthread.values import NONE, VlanSet

VLANS = {10: "office", 20: "exhibits", 30: "visitors", 40: "boatyard", 50: "cameras", 90: "transit"}

# name: site, tier, number of ports, spanning-tree priority
SWITCHES = {
    "core-east": ("Lighthouse House, cellar", "core", 12, 4096),
    "core-west": ("Rope Hall, plant room", "core", 12, 8192),
    "lighthouse-1": ("Lighthouse House, tickets", "access", 10, 32768),
    "lighthouse-2": ("Lighthouse House, offices", "access", 10, 32768),
    "ropehall": ("Rope Hall, exhibition", "access", 10, 32768),
    "galley": ("Galley Café", "access", 6, 32768),
    "chartroom": ("Chart Room, archive", "access", 8, 32768),
    "harbour-office": ("Harbour Office", "distribution", 10, 16384),
    "slipway": ("Slipway Shed", "access", 10, 32768),
    "sail-loft": ("Sail Loft", "access", 10, 32768),
}

# Two ends of a cable; the last two of a core's ports are left for a measuring laptop.
CABLES = [
    ("core-east", 1, "core-west", 1),
    ("core-east", 2, "core-west", 2),
    ("lighthouse-1", 1, "core-east", 3),
    ("lighthouse-1", 2, "core-west", 3),
    ("lighthouse-2", 1, "core-east", 4),
    ("lighthouse-2", 2, "core-west", 4),
    ("ropehall", 1, "core-east", 5),
    ("ropehall", 2, "core-west", 5),
    ("chartroom", 1, "core-east", 6),
    ("chartroom", 2, "core-west", 6),
    ("harbour-office", 1, "core-east", 7),
    ("harbour-office", 2, "core-west", 7),
    ("galley", 1, "ropehall", 3),
    ("slipway", 1, "core-west", 8),
    ("slipway", 2, "harbour-office", 3),
    ("sail-loft", 1, "slipway", 3),
    ("sail-loft", 2, "harbour-office", 4),
    ("quay-router", 1, "harbour-office", 5),
]

# host: VLAN, last part of the address, switch, port; 0 for a port that only the filtering databases tell of
HOSTS: dict[str, tuple[int, int | str, str, int]] = {
    "ticket-desk-1": (10, 21, "lighthouse-1", 3),
    "ticket-desk-2": (10, 22, "lighthouse-1", 4),
    "shop-till": (10, 23, "lighthouse-1", 5),
    "curator-pc": (10, 31, "lighthouse-2", 3),
    "director-laptop": (10, 150, "lighthouse-2", 4),
    "archive-store": (10, 41, "chartroom", 3),
    "plate-scanner": (10, 42, "chartroom", 4),
    "galley-till": (10, 24, "galley", 2),
    "foghorn-exhibit": (20, 11, "ropehall", 4),
    "tide-table-exhibit": (20, 12, "ropehall", 5),
    "sextant-exhibit": (20, 13, "lighthouse-1", 6),
    "show-control": (20, 5, "chartroom", 5),
    "visitor-kiosk": (30, 11, "lighthouse-1", 7),
    "galley-tablet": (30, 12, "galley", 3),
    "guide-tablet": (30, 57, "lighthouse-2", 0),
    "plank-saw": (40, 11, "sail-loft", 3),
    "paint-booth": (40, 12, "sail-loft", 4),
    "slip-winch": (40, 13, "slipway", 4),
    "yard-office-pc": (40, 31, "harbour-office", 6),
    "camera-recorder": (50, 5, "harbour-office", 7),
    "gate-camera": (50, 11, "harbour-office", 8),
    "slipway-camera": (50, 12, "slipway", 5),
    "lantern-exhibit": (20, "6:1", "ropehall", 6),
    "loft-camera": (50, "6:2", "sail-loft", 5),
}


def mac(kind: int, number: int) -> str:
    """A locally administered MAC address."""
    return f"02:5c:{kind:02x}:00:{number >> 8:02x}:{number & 255:02x}"


def prefix(vid: int) -> str:
    """A VLAN's IPv4 subnet."""
    return f"10.61.{vid}.0/24"


def address(vid: int, last: int | str) -> str:
    """An address in a VLAN: IPv4 for a number, IPv6 for text such as `6:1`."""
    if isinstance(last, int):
        return f"10.61.{vid}.{last}/24"
    return f"fd61:c7:0:{vid}::{last.partition(':')[2]}/64"


def gateway_address(vid: int, last: int | str) -> str:
    """The gateway of a VLAN, of the same kind of address as `last`."""
    return f"10.61.{vid}.1" if isinstance(last, int) else f"fd61:c7:0:{vid}::ff"


def healthy() -> Survey:
    """The campus as it should be: every host reaches every other that has the same kind of address."""
    survey = Survey(
        info=Info(
            title="Skerrymoor Maritime Museum and Boatyard",
            taken_at=datetime(2026, 5, 4, 6, 0, tzinfo=UTC),
            site="Skerrymoor",
            notes="An invented campus: ten switches, a router, two dozen hosts.",
        ),
        devices=_devices(),
        ports=_ports(),
        vlans=tuple(Vlan(s, vid, name, "active") for s in SWITCHES for vid, name in VLANS.items()),
        neighbors=_neighbors(),
        gateways=_gateways(),
        routes=_routes(),
        hosts=_hosts(),
        macs=_macs(),
        arp=_arp(),
    )
    return with_trees(survey, {n: (p, mac(1, _device_number(n))) for n, (_, _, _, p) in SWITCHES.items()})


def _device_number(name: str) -> int:
    return [*SWITCHES, "quay-router"].index(name) + 1


def _devices() -> tuple[Device, ...]:
    found = []
    for name, (site, tier, count, _) in SWITCHES.items():
        routes = name == "core-east"
        found.append(
            Device(
                name,
                chassis=mac(1, _device_number(name)),
                capabilities=("bridge", "router") if routes else ("bridge",),
                platform=f"{count}-port switch",
                software="5.1.2",
                management=f"10.61.10.{200 + _device_number(name)}",
                site=site,
                tier=tier,
                routing="yes" if routes else "no",
                discovery="on",
            )
        )
    return (
        *found,
        Device(
            "quay-router",
            chassis=mac(1, _device_number("quay-router")),
            capabilities=("router",),
            platform="4-port router",
            software="2.8",
            management="10.61.90.2",
            site="Harbour Office",
            tier="distribution",
            routing="yes",
            discovery="on",
        ),
    )


def _cable_ends() -> dict[tuple[str, int], tuple[str, int]]:
    there = {(a, p): (b, q) for a, p, b, q in CABLES}
    return there | {far: near for near, far in there.items()}


def _ports() -> tuple[Port, ...]:
    ends = _cable_ends()
    plugged = {(switch, port): name for name, (_, _, switch, port) in HOSTS.items()}
    everything = VlanSet.of(VLANS)
    found = []
    for name, (_, _, count, _) in SWITCHES.items():
        core_bundle = name.startswith("core-")
        for number in range(1, count + 1):
            row = Port(name, f"port{number}", mac=mac(16 + _device_number(name), number), admin="up", mtu=1500)
            if (name, number) in ends:
                far, far_port = ends[name, number]
                trunk = far == "quay-router"
                allowed = VlanSet.of([40, 50, 90]) if trunk else everything
                speed = 10000 if core_bundle or "core" in far else 1000
                row = replace(
                    row,
                    description=f"to {far} port{far_port}",
                    oper="up",
                    speed=speed,
                    duplex="full",
                    mode="trunk",
                    pvid=0,
                    allowed=allowed,
                    lag=NONE,
                    discovery="both",
                )
                if core_bundle and far.startswith("core-"):
                    row = replace(row, lag="bundle1", mode=None, pvid=None, allowed=None)
            elif (name, number) in plugged or (name, number) == ("lighthouse-2", 9):
                host = plugged.get((name, number), "guide-tablet")
                row = replace(
                    row,
                    description=host,
                    oper="up",
                    speed=1000,
                    duplex="full",
                    mode="access",
                    pvid=HOSTS[host][0],
                    discovery="off",
                )
            else:
                row = replace(row, admin="down", oper="down", mode="access", pvid=30, description="spare")
            found.append(row)
        if core_bundle:
            found.append(
                Port(
                    name,
                    "bundle1",
                    admin="up",
                    oper="up",
                    speed=20000,
                    mtu=1500,
                    mode="trunk",
                    pvid=0,
                    allowed=everything,
                )
            )
    router = mac(16 + _device_number("quay-router"), 1)
    found.append(
        Port(
            "quay-router",
            "port1",
            mac=router,
            admin="up",
            oper="up",
            speed=1000,
            duplex="full",
            mtu=1500,
            mode="routed",
            description="to harbour-office port5",
            discovery="both",
        )
    )
    gauge = mac(16 + _device_number("quay-router"), 2)
    found.append(
        Port(
            "quay-router",
            "port2",
            mac=gauge,
            admin="up",
            oper="up",
            speed=100,
            duplex="full",
            mtu=1500,
            mode="routed",
            description="tide-gauge",
            discovery="off",
        )
    )
    return tuple(found)


def _neighbors() -> tuple[Neighbor, ...]:
    devices = {device.device: device for device in _devices()}
    found = []
    for (name, number), (far, far_port) in sorted(_cable_ends().items()):
        other = devices[far]
        found.append(
            Neighbor(
                name,
                f"port{number}",
                "lldp",
                neighbor=far,
                neighbor_chassis=other.chassis,
                neighbor_port=f"port{far_port}",
                management=other.management,
                capabilities=other.capabilities,
                platform=other.platform,
                ttl=120,
                remaining=105,
                interval=30,
            )
        )
    return tuple(found)


def _gateways() -> tuple[Gateway, ...]:
    found = []
    for vid in (10, 20, 30, 90):
        found.append(Gateway("core-east", f"vlan{vid}", address(vid, 1), vid, admin="up", oper="up", proxy_arp="no"))
    inside = Gateway("core-east", "vlan20", "fd61:c7:0:20::ff/64", 20, admin="up", oper="up", proxy_arp="no")
    found.append(inside)
    found.append(replace(inside, interface="vlan90", address="fd61:c7:0:90::1/64", vid=90))
    outer = Gateway("quay-router", "", None, None, "port1", "no", "up", "up", proxy_arp="no")
    for vid, own in (
        (40, "10.61.40.1/24"),
        (50, "10.61.50.1/24"),
        (50, "fd61:c7:0:50::ff/64"),
        (90, "10.61.90.2/24"),
        (90, "fd61:c7:0:90::2/64"),
    ):
        found.append(replace(outer, interface=f"port1.{vid}", address=own, vid=vid))
    found.append(replace(outer, interface="port2", address="10.61.70.1/30", port="port2", untagged="yes"))
    return tuple(found)


def _routes() -> tuple[Route, ...]:
    found = [
        Route("core-east", goal, "10.61.90.2", "vlan90", "static") for goal in (prefix(40), prefix(50), "10.61.70.0/30")
    ]
    found.append(Route("core-east", "fd61:c7:0:50::/64", "fd61:c7:0:90::2", "vlan90", "static"))
    found.append(Route("quay-router", "0.0.0.0/0", "10.61.90.1", "port1.90", "static"))
    found.append(Route("quay-router", "fd61:c7:0:20::/64", "fd61:c7:0:90::1", "port1.90", "static"))
    return tuple(found)


def _hosts() -> tuple[Host, ...]:
    found = []
    for number, (name, (vid, last, switch, port)) in enumerate(HOSTS.items(), 1):
        found.append(
            Host(
                name,
                mac(2, number),
                address(vid, last),
                gateway_address(vid, last),
                switch if port else None,
                f"port{port}" if port else None,
                link="up" if port else None,
            )
        )
    gauge = Host("tide-gauge", mac(2, 99), "10.61.70.2/30", "10.61.70.1", "quay-router", "port2", link="up")
    return (*found, gauge)


def _macs() -> tuple[MacEntry, ...]:
    """What the switch that a host is plugged into has learned, and what core-east has over the link to it."""
    ends = _cable_ends()
    to_core = {name: far[1] for (name, _), far in ends.items() if far[0] == "core-east"}
    found = []
    for number, (name, (vid, _, switch, port)) in enumerate(HOSTS.items(), 1):
        found.append(MacEntry(switch, vid, mac(2, number), f"port{port or 9}", "learned"))
        if switch in to_core and name != "core-east":
            found.append(MacEntry("core-east", vid, mac(2, number), f"port{to_core[switch]}", "learned"))
    return tuple(found)


def _arp() -> tuple[ArpEntry, ...]:
    found = []
    for number, (vid, last, _, _) in enumerate(HOSTS.values(), 1):
        own = str(ip_interface(address(vid, last)).ip)
        if vid in (10, 20, 30):
            found.append(ArpEntry("core-east", f"vlan{vid}", own, mac(2, number)))
        else:
            found.append(ArpEntry("quay-router", f"port1.{vid}", own, mac(2, number)))
    return tuple(found)
