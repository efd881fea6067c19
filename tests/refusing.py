"""What real devices refuse: a survey on which work is done step by step, as devices would let it be done."""

from collections import Counter

from crossthread import Network, apply_changes


class Refusing:
    """Devices that refuse what devices refuse; each step of a work order is tried on them as its turn comes."""

    def __init__(self, survey):
        self.survey = survey

    def carry_out(self, order):
        """Do the steps one after the other.

        Raises
        ------
        AssertionError
            For the first that a device would refuse, or that no engineer would do.
        """
        for number, step in enumerate(order, 1):
            after = apply_changes(self.survey, step.changes)
            refused = [*_new(_doubles, self.survey, after), *self._misplaced(step, after)]
            if refused:
                raise AssertionError(f"step {number} ({step.says}) is refused: {'; '.join(refused)}")
            self.survey = after

    def _misplaced(self, step, after):
        network = Network(after)
        bridges = {end for a in network.adjacencies for end in (a.a, a.b)}
        for change in step.changes:
            device, port = change.key.get("device"), change.key.get("port")
            end = next((e for e in bridges if (e.device, e.port) == (device, port)), None)
            if change.cells.get("mode") == "access" and end is not None:
                yield f"{end} leads to a bridge or router and would be an access port"
        for row in after.ports:
            if row.mac_limit is not None and len(row.allowed_macs or ()) > row.mac_limit:
                yield f"{row.device} {row.port} would admit more stations than its limit"
            if row.allowed is not None and row.forbidden is not None and row.allowed & row.forbidden:
                yield f"{row.device} {row.port} would carry {row.allowed & row.forbidden}, which is forbidden there"


def _new(kind, before, after):
    """What is refused now that was not so before."""
    return sorted(set(kind(after)) - set(kind(before)))


def _doubles(survey):
    """Two interfaces of one parent with one tag; an address that two have."""
    tags = {}
    for row in survey.gateways:
        tags.setdefault((row.device, row.port, row.vid or row.interface), set()).add(row.interface)
    yield from (f"{place} is another's, too: {name}" for place, held in tags.items() if len(held) > 1 for name in held)
    own = [
        row.address.partition("/")[0] for row in (*survey.hosts, *survey.gateways) if row.address not in (None, "none")
    ]
    yield from (f"{address} is in use" for address, n in Counter(own).items() if n > 1)
