"""Who was heard of only by an address in an ARP cache: somebody answers there whom nobody surveyed."""

from __future__ import annotations

from crossthread.network.hosts.address_holders import Holders
from crossthread.network.hosts.station import Interface
from crossthread.survey import Survey
from crossthread.survey.records import ArpEntry, MacEntry


class Strangers:
    """Those that answer for an address which nobody has of all that were read.

    A host may use such a one as its gateway, and a router as a next hop: a way that leads there is not at its end.
    """

    def __init__(self, survey: Survey, holders: Holders) -> None:
        self._survey, self._holders = survey, holders

    def at(self, ip: str) -> ArpEntry | None:
        """What an ARP cache has of an address, if that is at a MAC address of no host, port or device of the survey.

        At a known one it may be what is left of an address that it had before.
        """
        if ip in self._holders:
            return None
        entries = self._survey.rows(ArpEntry)
        found = (entries[n] for n in entries.positions("address").get(ip, ()))
        return next((entry for entry in found if entry.mac and not self._is_known(entry.mac)), None)

    def _is_known(self, mac: str) -> bool:
        """Whether some row tells whose a MAC address is; also a cache that has it for an address of an interface."""
        places = (("hosts", "mac"), ("ports", "mac"), ("devices", "chassis"))
        if any(mac in self._survey.table(table).positions(column) for table, column in places):
            return True
        entries, learned = self._survey.rows(ArpEntry), self._survey.rows(MacEntry)
        others = (self._holders.of(entries[n].address) for n in entries.positions("mac").get(mac, ()))
        if any(isinstance(one, Interface) for held in others for one in held):
            return True
        return any(learned[n].kind == "self" for n in learned.positions("mac").get(mac, ()))
