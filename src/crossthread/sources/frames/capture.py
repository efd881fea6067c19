"""Captures (pcap and pcapng): who is at the other end of this cable, which tree, which VLANs, who else talks here."""

from __future__ import annotations

import io
import struct
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv6Address

import msgspec

from crossthread.errors import UnreadableError
from crossthread.sources.frames import bpdu, lldp
from crossthread.sources.mau import Running, running
from crossthread.survey.records import Device, Neighbor, Port, Row
from crossthread.values import NO_VID, NONE, Address, address

_ETHERNET = 1
_TAGS = (b"\x81\x00", b"\x88\xa8")
_BY_MAC = 3
_IPV4, _ARP, _IPV6, _LLDP = b"\x08\x00", b"\x08\x06", b"\x86\xdd", b"\x88\xcc"
_DAMAGE = (ValueError, EOFError, LookupError, TypeError, AttributeError, ArithmeticError, MemoryError, struct.error)
"""What the library that reads capture files raises on damaged ones, beside its own errors."""
_KNOWN_CAPABILITIES = {"bridge", "router", "station", "phone", "wlan", "repeater", "other"}


class Heard(msgspec.Struct, frozen=True):
    """A neighbour that announced itself: what it last said, how often, and at what mean interval in seconds."""

    unit: lldp.Lldpdu
    source: str
    count: int
    interval: float | None
    left: bool
    """Whether its last word was a farewell (hold time 0)."""


class Capture(msgspec.Struct, frozen=True):
    """What a capture tells.

    `roots` are the roots that were announced, with the VID of the frame (0: untagged) and how often; `tagged` counts
    the frames of each VID that came with a tag; `talkers` are (VID, MAC address, IP address) of those that asked or
    answered by ARP or neighbour discovery; `malformed` counts what could not be read, by reason.
    """

    frames: int
    seconds: float
    heard: tuple[Heard, ...]
    roots: tuple[tuple[int, bpdu.Bpdu, int], ...]
    tagged: dict[int, int]
    talkers: tuple[tuple[int, str, str], ...]
    malformed: dict[str, int]


def read_capture(data: bytes) -> Capture:
    """Read a capture file.

    Raises
    ------
    UnreadableError
        If it is no capture of Ethernet frames.
    """
    reader = CaptureReader()
    reader.read(data)
    return reader.capture()


def write_capture(frames: Iterable[tuple[float, bytes]]) -> bytes:
    """Frames with their times, in seconds since 1970, as a capture file of the older format."""
    parts = [struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 0xFFFF, _ETHERNET)]
    for time, frame in frames:
        seconds, part = divmod(round(time * 1_000_000), 1_000_000)
        parts += struct.pack("<IIII", seconds, part, len(frame), len(frame)), frame
    return b"".join(parts)


def without_payload(frame: bytes) -> bytes:
    """A frame as far as it tells of the network: whole if it is of a protocol that is read here, else its header."""
    at = 12
    while frame[at : at + 2] in _TAGS:
        at += 4
    kind = frame[at : at + 2]
    whole = kind in (_LLDP, _ARP) or kind < b"\x06\x00" or (kind == _IPV6 and frame[at + 8 : at + 9] == b"\x3a")
    return frame if whole else frame[: at + 2]


def _frames(data: bytes) -> Iterator[tuple[float, bytes | None]]:
    """The frames of a capture with their times; None for one that is of no interest by its Ethertype (plain IPv4)."""
    return _section_blocks(data) if data[:4] == b"\x0a\x0d\x0d\x0a" else _classic(data)


def _classic(data: bytes) -> Iterator[tuple[float, bytes | None]]:
    """The older format: a header of 24 octets, then 16 octets before each frame. Frames of no interest stay uncut."""
    if len(data) < 24:
        raise UnreadableError("a capture that ends in its header")
    order = "<" if data[:1] in (b"\xd4", b"\x4d") else ">"
    fraction = 1e-9 if data[:4] in (b"\xa1\xb2\x3c\x4d", b"\x4d\x3c\xb2\xa1") else 1e-6
    link = struct.unpack_from(order + "I", data, 20)[0] & 0xFFFF
    if link != _ETHERNET:
        raise UnreadableError(f"a capture of link type {link}, expected Ethernet ({_ETHERNET})")
    head = struct.Struct(order + "IIII").unpack_from
    at, size = 24, len(data)
    while at + 16 <= size:
        seconds, parts, length, _ = head(data, at)
        at += 16
        if at + length > size:
            raise UnreadableError("a capture that breaks off within a frame")
        dull = data[at + 12 : at + 14] == _IPV4
        yield seconds + parts * fraction, None if dull else data[at : at + length]
        at += length
    if at < size:
        raise UnreadableError("a capture that breaks off before a frame")


def _section_blocks(data: bytes) -> Iterator[tuple[float, bytes | None]]:
    """The newer format, pcapng."""
    import dpkt  # type: ignore[import-untyped]

    try:
        reader = dpkt.pcapng.Reader(io.BytesIO(data))
        if reader.datalink() != _ETHERNET:
            raise UnreadableError(f"a capture of link type {reader.datalink()}, expected Ethernet ({_ETHERNET})")
        yield from reader
    except (dpkt.Error, *_DAMAGE) as error:
        raise UnreadableError(f"a capture that breaks off or is damaged ({type(error).__name__})") from None


class CaptureReader:
    """Goes through frames, as they come, and remembers what matters."""

    def __init__(self) -> None:
        self.count = 0
        self.first = self.last = 0.0
        self.units: dict[tuple[str, str], list[tuple[float, lldp.Lldpdu, str]]] = defaultdict(list)
        self.trees: dict[tuple[int, int, str], list[bpdu.Bpdu]] = defaultdict(list)
        self.tagged: Counter[int] = Counter()
        self.talkers: dict[tuple[int, str, str], None] = {}
        self.malformed: Counter[str] = Counter()

    def read(self, data: bytes) -> None:
        """Go through a capture file; of a damaged one, what came before the damage is used."""
        try:
            for time, frame in _frames(data):
                self.take(time, frame)
        except UnreadableError as error:
            if not self.count:
                raise
            self.malformed[str(error)] += 1

    def capture(self) -> Capture:
        """What the frames up to here tell."""
        heard = tuple(self._heard(units) for units in self.units.values())
        roots = tuple((vid, units[-1], len(units)) for (vid, _, _), units in self.trees.items())
        return Capture(
            self.count,
            self.last - self.first,
            heard,
            roots,
            dict(self.tagged),
            tuple(self.talkers),
            dict(self.malformed),
        )

    @staticmethod
    def _heard(units: list[tuple[float, lldp.Lldpdu, str]]) -> Heard:
        times = [time for time, _, _ in units]
        interval = (times[-1] - times[0]) / (len(times) - 1) if len(times) > 1 else None
        _, unit, source = units[-1]
        said = [u for _, u, _ in units if u.ttl]
        return Heard(said[-1] if said else unit, source, len(units), interval, unit.ttl == 0)

    def take(self, time: float, frame: bytes | None) -> None:
        """Look at one frame (None: one of no interest); most are passed over after a glance at their type."""
        self.first = self.first if self.count else time
        self.last = time
        self.count += 1
        if frame is None:
            return
        kind = frame[12:14]
        at, vid = 14, NO_VID
        while kind in _TAGS and len(frame) >= at + 4:
            tag = int.from_bytes(frame[at : at + 2], "big") & 0xFFF
            vid = vid or tag
            kind = frame[at + 2 : at + 4]
            at += 4
        if vid:
            self.tagged[vid] += 1
        if kind == _LLDP:
            self._lldp(time, frame, at)
        elif kind == _ARP:
            self._arp(frame[at:], vid)
        elif kind == _IPV6:
            self._discovery(frame[at:], vid)
        elif kind < b"\x06\x00" and frame[at : at + 3] == bpdu.LLC and len(kind) == 2:
            self._bpdu(frame[at + 3 :], vid)

    def _lldp(self, time: float, frame: bytes, at: int) -> None:
        try:
            unit, problems = lldp.decode(frame[at:])
        except lldp.FrameError as error:
            self.malformed[f"LLDP: {error}"] += 1
            return
        for problem in problems:
            self.malformed[f"LLDP: {problem}"] += 1
        self.units[unit.chassis, unit.port].append((time, unit, frame[6:12].hex(":")))

    def _bpdu(self, data: bytes, vid: int) -> None:
        try:
            unit = bpdu.decode(data)
        except bpdu.BpduError as error:
            self.malformed[f"BPDU: {error}"] += 1
            return
        if not unit.change:
            self.trees[vid, unit.root_priority, unit.root_address].append(unit)

    def _arp(self, data: bytes, vid: int) -> None:
        if len(data) < 28:
            self.malformed["ARP: shorter than 28 octets (RFC 826)"] += 1
        elif data[:6] == b"\x00\x01\x08\x00\x06\x04" and any(data[14:18]):
            self.talkers[vid, data[8:14].hex(":"), str(IPv4Address(data[14:18]))] = None

    def _discovery(self, data: bytes, vid: int) -> None:
        """Neighbour solicitations and advertisements (RFC 4861 4.3, 4.4): who has which address."""
        if len(data) < 64 or data[6] != 58 or data[40] not in (135, 136):
            return
        who = data[8:24] if data[40] == 135 else data[48:64]
        option = data[64:72]
        if any(who) and len(option) == 8 and option[1] == 1 and option[0] in (1, 2):
            self.talkers[vid, option[2:8].hex(":"), str(IPv6Address(who))] = None


def read_rows(capture: Capture, source: str) -> list[Row]:
    """What the neighbours in a capture say of themselves: their devices, and the ports that they sent from.

    Two that are heard on one cable hear each other, so each is the other's neighbour.
    """
    found: list[Row] = []
    present = [heard for heard in capture.heard if not heard.left]
    for heard in present:
        unit = heard.unit
        words = None if unit.enabled is None else tuple(w for w in unit.enabled if w in _KNOWN_CAPABILITIES)
        management = unit.management[0] if unit.management else None
        name = unit.name or unit.chassis
        found.append(
            Device(name, unit.chassis, words, unit.description, management=management, discovery="on", source=source)
        )
        own = port_name(unit)
        # a phone repeats what it was told; of a switch's port it is the setting
        voice = unit.voice if "phone" not in (unit.enabled or ()) else None
        found.append(
            Port(
                name,
                own,
                voice=voice,
                aliases=(unit.port,) if unit.port != own else None,
                mac=heard.source,
                oper="up",
                description=unit.port_description if unit.port_description != own else None,
                pvid=unit.pvid if unit.pvid is None or unit.pvid <= 4094 else None,
                mtu=_mtu(unit),
                source=source,
            )
        )
        for other in present:
            if other is not heard:
                found.append(_neighbor(name, own, other, source))
    return found


def _neighbor(device: str, port: str, heard: Heard, source: str) -> Neighbor:
    unit = heard.unit
    words = None if unit.enabled is None else tuple(w for w in unit.enabled if w in _KNOWN_CAPABILITIES)
    runs = running(unit.negotiation[2]) if unit.negotiation else Running()
    return Neighbor(
        device,
        port,
        "lldp",
        unit.name,
        unit.chassis,
        unit.port,
        unit.port_description,
        unit.management[0] if unit.management else NONE,
        words,
        unit.description,
        ttl=unit.ttl,
        interval=round(heard.interval, 3) if heard.interval else None,
        pvid=unit.pvid if unit.pvid is None or unit.pvid <= 4094 else None,
        mtu=_mtu(unit),
        source=source,
        speed=runs.speed,
        duplex=runs.duplex,
    )


def port_name(unit: lldp.Lldpdu) -> str:
    """What the device most likely calls the port itself: its identifier, unless that is only a MAC address."""
    return unit.port_description or unit.port if unit.port_subtype == _BY_MAC else unit.port


def _mtu(unit: lldp.Lldpdu) -> int | None:
    """The largest packet, from the largest frame: without 14 octets of header and 4 of checksum."""
    return unit.frame_size - 18 if unit.frame_size and unit.frame_size > 18 else None


def _talk(capture: Capture) -> Iterator[str]:
    """Who talks, per VLAN: how many stations, and from which lowest to which highest address."""
    found: dict[tuple[int, int], list[tuple[Address, str]]] = defaultdict(list)
    for vid, mac, text in capture.talkers:
        own = address(text)
        if not own.is_link_local:
            found[vid, own.version].append((own, mac))
    for (vid, _), entries in found.items():
        stations = len({mac for _, mac in entries})
        low, high = (pick(entries, key=lambda entry: int(entry[0]))[0] for pick in (min, max))
        where = f" in VLAN {vid}" if vid else ""
        span = str(low) if low == high else f"{low} to {high}"
        yield f"{stations} station{'s' if stations > 1 else ''} talk{'' if stations > 1 else 's'}{where} ({span})"


def told(capture: Capture) -> str:
    """A capture in a sentence: where it was taken, the root, who talks."""
    parts = []
    for heard in capture.heard:
        unit = heard.unit
        vlan = f", VLAN {unit.pvid}" if unit.pvid else ""
        voice = f", voice VLAN {unit.voice}" if unit.voice else ""
        left = " (has said farewell)" if heard.left else ""
        parts.append(f"{port_name(unit)} of {unit.name or unit.chassis}{vlan}{voice}{left}")
    for vid, tree, _ in capture.roots:
        where = f" in VLAN {vid}" if vid else ""
        parts.append(f"root {tree.root_priority}/{tree.root_address}{where} at cost {tree.root_cost}")
    if capture.tagged:
        parts.append("tagged VLANs " + " ".join(map(str, sorted(capture.tagged))))
    if capture.talkers:
        parts += _talk(capture)
    if capture.malformed:
        reasons = sorted(capture.malformed, key=lambda reason: -capture.malformed[reason])
        named = "; ".join(f"{capture.malformed[reason]} × {reason}" for reason in reasons[:3])
        more = f" and {len(reasons) - 3} more kinds" if len(reasons) > 3 else ""
        parts.append(f"{sum(capture.malformed.values())} malformed ({named}{more})")
    return f"{capture.frames} frames: " + "; ".join(parts) if parts else f"{capture.frames} frames, none that helps"
