"""Which host somebody means."""

from __future__ import annotations

from difflib import get_close_matches

from crossthread.errors import UnknownNameError, visible
from crossthread.network.hosts.station import HostStation
from crossthread.network.network import Network
from crossthread.values import address, parse_mac


def _addresses(text: str | None) -> list[str]:
    return [word.partition("/")[0] for word in (text or "").split()]


def find_host(network: Network, wanted: str, kind: str = "host") -> HostStation:
    """A host by name, IP address or MAC address.

    Raises
    ------
    UnknownNameError
        If none or several fit; names that come close are suggested.
    """
    hosts = network.stations.hosts
    by_name = hosts.get(wanted.strip().casefold())
    if by_name is not None:
        return by_name
    found: list[HostStation] = []
    try:
        text = str(address(wanted.strip()))
        kind = "host with the address"
        found = [s for s in network.stations.by_address.of(text) if isinstance(s, HostStation)]
        if not found and network.told is not network.survey:
            having = (row.host for row in network.told.hosts if text in _addresses(row.address))
            found = [hosts[name.casefold()] for name in having]
    except ValueError:
        try:
            mac = parse_mac(wanted)
            kind = "host with the MAC address"
            found = [s for s in hosts.values() if s.row.mac == mac]
        except ValueError:
            pass
    if len(found) == 1:
        return found[0]
    if found:
        listed = ", ".join(visible(s.name) for s in found)
        raise UnknownNameError(f"several hosts have {visible(wanted)}: {listed}; name one of them")
    names = {s.name.casefold(): s.name for s in hosts.values()}
    close = [names[name] for name in get_close_matches(wanted.casefold(), names, 3, 0.6)]
    hint = f"; did you mean {' or '.join(map(visible, close))}?" if close else ""
    if not hint and hosts:
        some = ", ".join(visible(s.name) for s in list(hosts.values())[:3])
        hint = f"; the survey has {len(hosts)} hosts, such as {some}"
    raise UnknownNameError(
        f"there is no {kind} “{visible(wanted)}” in this survey{hint if hint else ', which has no hosts'}"
    )
