"""A socket that hears the frames of an interface, with their tags: Linux, AF_PACKET (packet(7))."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import socket
import struct

from crossthread.errors import ListeningError, visible

_ALL = 0x0003
_PACKET, _JOIN, _AUXILIARY, _IGNORE_OUTGOING = 263, 1, 8, 23
_EVERY_ADDRESS = 1
_OUTGOING = 4
_ETHERNET = 1
_ATTACH_FILTER = 26
_TAG_PRESENT, _TAG_TYPE_PRESENT = 1 << 4, 1 << 6
_ROOM = 1 << 21
"""Octets that the kernel may hold for us while we are busy."""
_LOAD_HALF, _LOAD_OCTET, _IS, _IS_AT_LEAST, _RETURN = 0x28, 0x30, 0x15, 0x35, 0x06
_WHOLE = 0xFFFF
_OWN_TAG = 0xFFFFF000 + 48
_FILTER = (
    (_LOAD_HALF, 0, 0, 12),
    (_IS, 9, 0, 0x88CC),
    (_IS, 8, 0, 0x0806),
    (_IS, 7, 0, 0x8100),
    (_IS, 6, 0, 0x88A8),
    (_IS_AT_LEAST, 0, 5, 0x0600),  # below: the length of an LLC frame, as BPDUs are
    (_IS, 0, 2, 0x86DD),
    (_LOAD_OCTET, 0, 0, 20),
    (_IS, 2, 0, 58),  # ICMPv6
    (_LOAD_OCTET, 0, 0, _OWN_TAG),
    (_IS, 1, 0, 0),
    (_RETURN, 0, 0, _WHOLE),
    (_RETURN, 0, 0, 0),
)
"""What the kernel lets through, each (code, steps if so, steps if not, value): LLDP, ARP, BPDUs, ICMPv6, tagged."""


def open_interface(name: str) -> socket.socket:
    """A socket for what arrives on an interface; nothing is ever sent through it.

    Raises
    ------
    ListeningError
        If there is no such interface, it is down or no Ethernet, or the right to listen is missing.
    """
    shown = visible(name)
    if not hasattr(socket, "AF_PACKET"):
        raise ListeningError("listening works on Linux only; take a capture, and give the file to `desk`")
    try:
        found = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    except PermissionError:
        raise ListeningError(
            f"listening on {shown} needs the right to capture (CAP_NET_RAW): run it as root, or let somebody who may "
            "take a capture, and give the file to `desk`"
        ) from None
    try:
        instructions = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *step) for step in _FILTER))
        found.setsockopt(
            socket.SOL_SOCKET, _ATTACH_FILTER, struct.pack("@HP", len(_FILTER), ctypes.addressof(instructions))
        )
        found.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _ROOM)
        found.setsockopt(_PACKET, _AUXILIARY, 1)
        with contextlib.suppress(OSError):  # kernels before 4.20 do not know it; `receive` looks, too
            found.setsockopt(_PACKET, _IGNORE_OUTGOING, 1)
        found.bind((name, _ALL))
        _, _, _, kind, _ = found.getsockname()
        if kind != _ETHERNET:
            raise ListeningError(f"{shown} is no Ethernet interface; expected one with a cable to a switch")
        # for all addresses: frames for groups that nobody here joined, and of VLANs that nobody here is in
        found.setsockopt(_PACKET, _JOIN, struct.pack("@iHH8s", socket.if_nametoindex(name), _EVERY_ADDRESS, 0, b""))
    except ListeningError:
        found.close()
        raise
    except OSError as error:
        found.close()
        raise ListeningError(why_not(name, error)) from None
    return found


def why_not(name: str, error: OSError) -> str:
    """A sentence for what the system says of an interface."""
    shown = visible(name)
    if error.errno in (errno.ENODEV, errno.ENXIO, None):  # None: longer than any name may be
        there = ", ".join(visible(own) for _, own in socket.if_nameindex() if own != "lo")
        return f"there is no interface {shown}; this machine has {there or 'none'}"
    if error.errno == errno.ENETDOWN:
        return f"{shown} is down; bring it up and plug the cable in"
    return f"{shown} cannot be listened on: {error.strerror}"


def receive(hearing: socket.socket) -> bytes | None:
    """The next frame that arrives, its tag put back where the interface took it out; None for an own one that left."""
    frame, auxiliary, _, sender = hearing.recvmsg(65_536, socket.CMSG_SPACE(20))
    if sender[2] == _OUTGOING:
        return None
    for level, kind, data in auxiliary:
        if (level, kind) == (_PACKET, _AUXILIARY) and len(data) >= 20:
            status, _, _, _, _, tag, tag_type = struct.unpack_from("@IIIHHHH", data)
            if status & _TAG_PRESENT:
                of_type = tag_type if status & _TAG_TYPE_PRESENT else 0x8100
                return frame[:12] + struct.pack("!HH", of_type, tag) + frame[12:]
    return frame
