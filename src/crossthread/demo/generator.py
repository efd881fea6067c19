"""Healthy campuses of any size and of random shape, made up from a seed: for tests, benchmarks and practice."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from datetime import UTC, datetime
from ipaddress import ip_network
from random import Random

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
from crossthread.values import NO_VID, NONE, VlanSet

_TRANSIT, _NATIVE = 900, 999
_KINDS = ("desk", "till", "camera", "exhibit", "scanner", "kiosk", "winch", "sensor")


def generate(seed: int, switches: int = 12, hosts: int = 40, vlans: int = 5, ports: int = 0) -> Survey:
    """A campus on which every host reaches every other that has the same kind of address.

    Parameters
    ----------
    seed
        The same seed and numbers give the same campus.
    switches, hosts, vlans
        How many; at least 3 switches, 1 VLAN and 1 host.
    ports
        Ports per access switch; 0 for as many as its hosts and cables need and a few spare ones.
    """
    return _Campus(Random(seed), switches, hosts, vlans, ports).survey()


class _Campus:
    """Collects the tables while the shape is drawn."""

    def __init__(self, chance: Random, switches: int, hosts: int, vlans: int, ports: int) -> None:
        self.chance, self.size, self.least = chance, hosts, ports
        self.native = chance.choice((NO_VID, NO_VID, _NATIVE))
        self.vids = sorted(chance.sample(range(2, 800), vlans))
        self.next_port: dict[str, int] = defaultdict(int)
        self.rows: dict[str, list[Port]] = defaultdict(list)
        self.neighbors: list[Neighbor] = []
        self.hosts: list[Host] = []
        self.macs: list[MacEntry] = []
        self.arp: list[ArpEntry] = []
        self.gateways: list[Gateway] = []
        self.routes: list[Route] = []
        self.numbers: dict[str, int] = {}
        self.tiers: dict[str, str] = {}
        self.cores = [f"core-{n + 1}" for n in range(1 if switches < 6 else chance.choice((1, 2, 2)))]
        for core in self.cores:
            self._device(core, "core")
        self.buildings = max(1, (switches - len(self.cores)) // chance.choice((5, 8, 12)))
        self.local = self._local_vlans()
        self.access: list[tuple[str, int]] = []
        self._wire(switches)
        self.seats = list(self._seats())

    def _seats(self) -> Iterator[tuple[str, int]]:
        """For each host its switch and its VLAN."""
        for n in range(self.size):
            switch, building = self.access[n % len(self.access)] if self.access else (self.cores[0], 0)
            vids = self.local[building]
            yield switch, vids[n % len(vids)] if n < len(vids) else self.chance.choice(vids)

    def _device(self, name: str, tier: str) -> str:
        self.numbers[name] = len(self.numbers) + 1
        self.tiers[name] = tier
        return name

    def _local_vlans(self) -> list[list[int]]:
        """The VLANs of each building: all of them everywhere, or some campus-wide and the rest here and there."""
        if self.chance.random() < 0.5:
            return [self.vids] * self.buildings
        shared = self.vids[: max(1, len(self.vids) // 2)]
        rest = self.vids[len(shared) :]
        return [sorted({*shared, *rest[n :: self.buildings]}) for n in range(self.buildings)]

    def _wire(self, switches: int) -> None:
        every = [*self.vids, _TRANSIT]
        if len(self.cores) == 2:
            self._bundle(self.cores[0], self.cores[1], every)
        left = switches - len(self.cores)
        for number in range(self.buildings):
            count = left // (self.buildings - number)
            left -= count
            self._building(number, count)

    def _building(self, number: int, count: int) -> None:
        allowed = self.local[number]
        heads = 2 if count > 3 and self.chance.random() < 0.5 else 1
        if count <= 1:
            heads = 0
        tops = [self._device(f"dist-{number + 1}{'ab'[n]}", "distribution") for n in range(heads)]
        for top in tops:
            for core in self.cores if self.chance.random() < 0.7 else self.cores[:1]:
                self._cable(top, core, allowed, 10000)
        if len(tops) == 2 and self.chance.random() < 0.5:
            self._cable(tops[0], tops[1], allowed, 10000)
        before = None
        for n in range(count - heads):
            name = self._device(f"acc-{number + 1}-{n + 1}", "access")
            above = tops or self.cores[:1]
            way = self.chance.random()
            if before and way < 0.15:
                above = [before]
            elif way < 0.6:
                above = above[:1]
            for top in above:
                self._cable(name, top, allowed, self.chance.choice((1000, 10000)))
            self.access.append((name, number))
            before = name

    def _port(self, device: str, description: str, **cells: object) -> str:
        self.next_port[device] += 1
        number = self.next_port[device]
        mac = f"{self._mac(device)[:2]}:a0{self._mac(device)[11:]}:{number >> 8:02x}:{number & 255:02x}"
        row = Port(
            device, f"port{number}", description=description, mac=mac, admin="up", oper="up", duplex="full", mtu=1500
        )
        self.rows[device].append(replace(row, **cells))
        return row.port

    def _trunk(self, allowed: list[int]) -> dict[str, object]:
        vids = VlanSet.of([*allowed, self.native] if self.native else allowed)
        return {"mode": "trunk", "pvid": self.native, "allowed": vids}

    def _cable(self, one: str, two: str, allowed: list[int], speed: int, lag: str = NONE) -> None:
        cells = {"speed": speed, "lag": lag, "discovery": "both"}
        cells |= self._trunk(allowed) if lag == NONE else {}
        ends = [(name, self._port(name, f"to {other}", **cells)) for name, other in ((one, two), (two, one))]
        for (near, port), (far, far_port) in (ends, ends[::-1]):
            self.neighbors.append(
                Neighbor(
                    near,
                    port,
                    "lldp",
                    far,
                    self._mac(far),
                    far_port,
                    management=self._management(far),
                    ttl=120,
                    remaining=100,
                    interval=30,
                )
            )

    def _bundle(self, one: str, two: str, allowed: list[int]) -> None:
        for _ in range(2):
            self._cable(one, two, [], 10000, "bundle1")
        for name in (one, two):
            row = Port(name, "bundle1", admin="up", oper="up", speed=20000, mtu=1500)
            self.rows[name].append(replace(row, **self._trunk(allowed)))

    def _mac(self, device: str) -> str:
        number = self.numbers[device]
        return f"02:a1:00:00:{number >> 8:02x}:{number & 255:02x}"

    def _management(self, device: str) -> str:
        number = self.numbers[device]
        return f"10.32.{number >> 8}.{number & 255}"

    def _serve(self) -> Iterator[tuple[int, str, str, str]]:
        """Give each VLAN its subnet and a gateway on a core switch: VID, device, address, address with prefix."""
        bits = (max(Counter(vid for _, vid in self.seats).values(), default=0) + 12).bit_length()
        base = int(ip_network("10.64.0.0/10").network_address)
        for n, vid in enumerate(self.vids):
            device = self.cores[n % len(self.cores)]
            if self.chance.random() < 0.1:
                subnet = ip_network(f"fd52:3:0:{vid}::/64")
            else:
                subnet = ip_network((base + (n << bits), 32 - bits))
            own = str(subnet.network_address + 1)
            self.gateways.append(
                Gateway(device, f"vlan{vid}", f"{own}/{subnet.prefixlen}", vid, admin="up", oper="up", proxy_arp="no")
            )
            for core, hop in zip(self.cores, (_hop(subnet.version, 1), _hop(subnet.version, 0)), strict=False):
                if core != device:
                    self.routes.append(Route(core, str(subnet), hop, f"vlan{_TRANSIT}", "static"))
            yield vid, device, own, str(subnet)

    def _transit(self) -> None:
        for n, core in enumerate(self.cores):
            for version, length in ((4, 29), (6, 64)):
                own = f"{_hop(version, n)}/{length}"
                self.gateways.append(
                    Gateway(core, f"vlan{_TRANSIT}", own, _TRANSIT, admin="up", oper="up", proxy_arp="no")
                )

    def _plug_in(self) -> None:
        served = {vid: (device, own, ip_network(subnet)) for vid, device, own, subnet in self._serve()}
        used: dict[int, int] = defaultdict(lambda: 9)
        for n, (switch, vid) in enumerate(self.seats):
            device, own, subnet = served[vid]
            used[vid] += 1
            address = str(subnet.network_address + used[vid])
            mac = f"02:b0:{n >> 24:02x}:{n >> 16 & 255:02x}:{n >> 8 & 255:02x}:{n & 255:02x}"
            name = f"{_KINDS[n % len(_KINDS)]}-{n + 1}"
            port = self._port(switch, f"to {name}", speed=1000, mode="access", pvid=vid, discovery="off")
            self.hosts.append(Host(name, mac, f"{address}/{subnet.prefixlen}", own, switch, port, link="up"))
            self.macs.append(MacEntry(switch, vid, mac, port, "learned"))
            self.arp.append(ArpEntry(device, f"vlan{vid}", address, mac))

    def survey(self) -> Survey:
        self._plug_in()
        if len(self.cores) == 2:
            self._transit()
        for device in self.numbers:
            spare = self.least - self.next_port[device] if self.tiers[device] == "access" else 2
            for _ in range(max(spare, 1)):
                self._port(device, "spare", admin="down", oper="down", duplex=None, mode="access", pvid=self.vids[0])
        everywhere = [*self.vids, _TRANSIT, *([self.native] if self.native else [])]
        vlans = []
        for device, tier in self.tiers.items():
            building = int(device.split("-")[1].rstrip("ab")) - 1 if tier != "core" else None
            kept = everywhere if building is None else self.local[building]
            kept = sorted({*kept, *([self.native] if self.native else [])})
            vlans += [
                Vlan(device, vid, f"net-{vid}", "active") for vid in kept if vid != _TRANSIT or len(self.cores) == 2
            ]
        survey = Survey(
            info=Info(title="A generated campus", taken_at=datetime(2026, 5, 4, 6, 0, tzinfo=UTC)),
            devices=tuple(self._device_rows()),
            ports=tuple(row for device in self.numbers for row in self.rows[device]),
            vlans=tuple(vlans),
            neighbors=tuple(self.neighbors),
            gateways=tuple(self.gateways),
            routes=tuple(self.routes),
            hosts=tuple(self.hosts),
            macs=tuple(self.macs),
            arp=tuple(self.arp),
        )
        priorities = {"core": 4096, "distribution": 16384, "access": 32768}
        bridges = {name: (priorities[tier], self._mac(name)) for name, tier in self.tiers.items()}
        if len(self.cores) == 2:
            bridges[self.cores[1]] = (8192, self._mac(self.cores[1]))
        return with_trees(survey, bridges)

    def _device_rows(self) -> Iterator[Device]:
        for name, tier in self.tiers.items():
            core = tier == "core"
            yield Device(
                name,
                chassis=self._mac(name),
                capabilities=("bridge", "router") if core else ("bridge",),
                platform=f"{tier} switch",
                software="5.1.2",
                management=self._management(name),
                tier=tier,
                routing="yes" if core else "no",
                discovery="on",
            )


def _hop(version: int, core: int) -> str:
    return f"10.33.0.{core + 1}" if version == 4 else f"fd52:3:0:ffff::{core + 1}"
