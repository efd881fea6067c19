"""Reading Linux machines and software switches over SSH: a fixed list of listings; nothing else is ever run."""

from __future__ import annotations

import asyncio
import json
import re
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from subprocess import DEVNULL
from typing import TYPE_CHECKING, Any

from crossthread.errors import UnreadableError, visible
from crossthread.live.access import Access
from crossthread.live.account import NotInFull
from crossthread.live.snmp.datagrams import Place
from crossthread.live.snmp.session import CredentialsError, RefusedError
from crossthread.sources.documents import recognise
from crossthread.sources.listings import discovery_daemon as daemon
from crossthread.sources.snmp.told import ToldDevice, ToldNeighbor
from crossthread.survey.writing import replace_file
from crossthread.values import NONE

if TYPE_CHECKING:
    from asyncssh import SSHClientConnection

LISTINGS = {
    "lldp-chassis.json": "lldpcli -f json0 show chassis",
    "lldp-neighbors.json": "lldpcli -f json0 show neighbors details",
    "lldp-ports.json": "lldpcli -f json0 show inter details",
    "ip-addr.json": "ip -j -d addr",
    "ip-link.json": "ip -j -d -s link",
    "ip-route.json": "ip -j -4 route show table all",
    "ip-route6.json": "ip -j -6 route show table all",
    "ip-rule.json": "ip -j rule",
    "ip-neigh.json": "ip -j neigh",
    "ip-netconf.json": "ip -j netconf",
    "bridge-vlan.json": "bridge -j vlan",
    "bridge-link.json": "bridge -j -d link",
    "bridge-fdb.json": "bridge -j fdb",
    "ovs-bridge.json": "ovs-vsctl --format=json list Bridge",
    "ovs-port.json": "ovs-vsctl --format=json list Port",
    "ovs-interface.json": "ovs-vsctl --format=json list Interface",
    "packet-filter.json": "nft -j list ruleset",
}
"""Every command that is ever run, by the file that its output is kept in; a device that lacks a program lacks the file.

Two more follow from them, if there is one software bridge and its name is a plain word: `ovs-appctl fdb/show BRIDGE`
and `ovs-ofctl dump-flows BRIDGE`.
"""
ASKED = "asked.json"
"""What else is kept: the device's name, the address it was asked at, and which listings it has failed to give."""
_NAME = "uname -n"
_LOGIN_PATIENCE = 10.0
_COMMAND_PATIENCE = 30.0
_LARGEST, _PART = 64 << 20, 1 << 16
_NOT_THERE = (126, 127)
"""Exit statuses of a shell that cannot run a program, or has none of that name."""
_PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")


async def read_by_shell(entry: Access, place: Place, address: str, folder: Path) -> tuple[ToldDevice, list[NotInFull]]:
    """Log in, and keep every listing that the device can give in a folder, each as it came.

    Returns
    -------
    tuple
        What the device says of itself and its neighbours, and what it failed to give, and why.

    Raises
    ------
    RefusedError
        If nobody listens there, the connection breaks off, or its host key is not the one that is known.
    CredentialsError
        If it does not let us in.
    """
    import asyncssh

    given: dict[str, object] = {"known_hosts": str(Path(entry.known_hosts).expanduser())} if entry.known_hosts else {}
    if entry.key:
        given["client_keys"] = [str(Path(entry.key).expanduser())]
        given["passphrase"] = entry.pass_phrase.reveal() if entry.pass_phrase else None
    try:
        async with asyncssh.connect(
            place[0],
            place[1],
            username=entry.user,
            config=None,
            login_timeout=_LOGIN_PATIENCE,
            connect_timeout=_LOGIN_PATIENCE,
            password=None,
            kbdint_auth=False,
            password_auth=False,
            **given,
        ) as connection:
            return await _listings(connection, address, folder)
    except asyncssh.PermissionDenied:
        raise CredentialsError("it does not let this user in with these keys") from None
    except asyncssh.HostKeyNotVerifiable:
        where = visible(entry.known_hosts or "~/.ssh/known_hosts", 200)
        raise RefusedError(f"its host key is not the one in {where}, or not in it") from None
    except (asyncssh.KeyImportError, asyncssh.KeyEncryptionError) as error:
        raise CredentialsError(f"our own key cannot be used: {visible(str(error), 120)}") from None
    except (asyncssh.Error, OSError, TimeoutError) as error:
        raise RefusedError(_why(error)) from None


def _why(error: Exception) -> str:
    if isinstance(error, TimeoutError):
        return "no answer in time"
    told = getattr(error, "strerror", None) or str(error) or type(error).__name__
    return visible(told, 120).lower()


async def _listings(connection: SSHClientConnection, address: str, folder: Path) -> tuple[ToldDevice, list[NotInFull]]:
    folder.mkdir(parents=True, exist_ok=True)
    lacking = []
    status, output = await _run(connection, _NAME)
    name = output.decode("utf-8", "replace").strip() if status == 0 else ""
    for file, command in LISTINGS.items():
        if not (folder / file).exists():  # it is, where a visit was killed in the middle
            lacking += await _keep(connection, command, folder / file)
    bridges = list(_bridges(folder))
    if len(bridges) == 1 and _PLAIN.fullmatch(bridges[0]):
        for command, file in (("ovs-appctl fdb/show", "ovs-fdb.txt"), ("ovs-ofctl dump-flows", "ovs-flows.txt")):
            lacking += await _keep(connection, f"{command} {bridges[0]}", folder / file)
    elif bridges:
        lacking.append(
            NotInFull("ovs-fdb.txt", "ovs-appctl fdb/show", f"the device has {len(bridges)} software bridges")
        )
    asked = {"device": name or address, "asked_at": address, "failed": [entry.column for entry in lacking]}
    replace_file(folder / ASKED, json.dumps(asked).encode())
    return told_in_folder(folder), lacking


async def _keep(connection: SSHClientConnection, command: str, path: Path) -> list[NotInFull]:
    """Keep a command's output; what it failed to give, and why, if the program is there."""
    status, output = await _run(connection, command)
    if status == 0 and output.strip():
        replace_file(path, output)
        return []
    if status in _NOT_THERE or status == 0:
        return []
    return [NotInFull(path.name, command, f"it ended with status {status}" if status else "it gave no answer in time")]


async def _run(connection: SSHClientConnection, command: str) -> tuple[int | None, bytes]:
    """The exit status and output of one of the commands; no status if it did not end in time."""
    output = bytearray()
    async with connection.create_process(command, encoding=None, stdin=DEVNULL, stderr=DEVNULL) as process:
        try:
            async with asyncio.timeout(_COMMAND_PATIENCE):
                while part := await process.stdout.read(_PART):
                    output += part
                    if len(output) > _LARGEST:
                        raise TimeoutError
                ended = await process.wait()
        except TimeoutError:
            process.kill()
            return None, b""
        return ended.exit_status, bytes(output)


def _bridges(folder: Path) -> Iterator[str]:
    path = folder / "ovs-bridge.json"
    if path.exists():
        with suppress(ValueError, TypeError, KeyError):
            table = json.loads(path.read_bytes())
            at = table["headings"].index("name")
            yield from (str(row[at]) for row in table["data"])


def is_complete(folder: Path) -> bool:
    """Whether a folder has all listings of a device that it could give."""
    with suppress(OSError, ValueError, TypeError, KeyError):
        return not json.loads((folder / ASKED).read_bytes())["failed"]
    return False


def told_in_folder(folder: Path) -> ToldDevice:
    """What kept listings tell of a device and its neighbours."""
    found: dict[str, Any] = {}
    for path in (folder / "lldp-chassis.json", folder / "lldp-neighbors.json"):
        with suppress(OSError, ValueError, UnreadableError):
            kind, document = recognise(path.read_bytes()) or ("", None)
            found[kind] = document
    asked: dict[str, Any] = {}
    with suppress(OSError, ValueError):
        asked = json.loads((folder / ASKED).read_bytes())
    name = str(asked.get("device") or "") or None
    own = daemon.read_chassis(name or "", found["lldp-chassis"], "") if "lldp-chassis" in found else []
    heard = daemon.read_neighbors("", found["lldp-neighbors"], "") if "lldp-neighbors" in found else []
    neighbors = tuple(
        ToldNeighbor(
            row.port,
            row.neighbor,
            row.neighbor_chassis,
            (row.management,) if row.management not in (None, NONE) else (),
        )
        for row in heard
    )
    return ToldDevice(own[0].device if own else name, own[0].chassis if own else None, None, neighbors)
