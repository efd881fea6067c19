"""Mistakes that people make, of many rows at once: what `check` and `why` make of each. No timings.

    python benchmarks/mistakes.py FOLDER... [--only WORDS] [--all] [--two N [--seed N]]

Each argument is a folder of cases as for `editing.py`, whose faults are undone first; without any, the museum of the
demo is taken. A switch is set back to its defaults, a VLAN is renumbered or deleted on one switch or all, a list is
overwritten instead of added to, two ports, hosts or interfaces get each other's settings, a whole subnet asks for a
wrong gateway. Told is each mistake by which pairs stop and of which the mends of `check`, all together, do not bring
all back; or `why` of two such pairs not that pair; or one of them stops somebody who works as in the healthy network,
other than by luck. With --all the others as well; with --only those whose label has
these words, with what was found. With --two so many pairs of mistakes at random are made at once.
"""

import argparse
import random
from itertools import islice

from editing import networks, reaches

from crossthread import Change, CrossThreadError, Network, VlanSet, apply_changes, check, why
from crossthread.diagnosis.context import context_of
from crossthread.diagnosis.way.echo import lucky
from crossthread.survey.changes import merge_changes


def port(end, **cells):
    return Change("ports", {"device": end[0], "port": end[1]}, cells)


def host(row, **cells):
    return Change("hosts", {"host": row.host}, cells)


def gateway(row, **cells):
    return Change("gateways", {"device": row.device, "interface": row.interface, "address": row.address}, cells)


class Site:
    """What is looked up again and again of a healthy network."""

    def __init__(self, survey):
        self.survey, self.links = survey, list(Network(survey).links)
        self.ports = {(row.device, row.port): row for row in survey.ports}
        self.hosts = {(row.device, row.port): row for row in survey.hosts if (row.device, row.port) in self.ports}
        self.access = {end: self.ports[end] for end in self.hosts if self.ports[end].mode == "access"}
        self.trunks = [end for link in self.links for end in (link.a, link.b) if self.mode(end) == "trunk"]
        self.gateways = [row for row in survey.gateways if row.address and "." in row.address]
        self.vids = sorted({row.pvid for row in self.access.values()})

    def all_of(self, row):
        return [one for one in self.survey.gateways if (one.device, one.interface) == (row.device, row.interface)]

    def mode(self, end):
        return self.ports[end].mode if end in self.ports else None

    def vlan_gone(self, vid, device=None):
        rows = [row for row in self.survey.vlans if row.vid == vid and device in (None, row.device)]
        return [Change("vlans", {"device": row.device, "vid": vid}, {}, True) for row in rows]


def at_switches(site):
    """What goes wrong at one switch."""
    for device in dict.fromkeys(device for device, _ in site.access):
        mine = {end: row for end, row in site.access.items() if end[0] == device}
        ups = [end for end in site.trunks if end[0] == device]
        reset = [port(end, pvid=1) for end in mine]
        yield f"all host ports of {device} in VLAN 1", reset
        gone = [one for vid in site.vids for one in site.vlan_gone(vid, device)]
        yield f"{device} set back", [*reset, *gone, *(port(e, mode="access", pvid=1, allowed=None) for e in ups)]
        for (one, a), (two, b) in islice(((x, y) for x in mine.items() for y in mine.items()), 40):
            if a.pvid < b.pvid:
                yield f"{one} and {two} swapped", [port(one, pvid=b.pvid), port(two, pvid=a.pvid)]
                break
        for vid in sorted({row.pvid for row in mine.values()}):
            inside = [end for end, row in mine.items() if row.pvid == vid]
            for other in [other for other in site.vids if other != vid][:1]:
                yield f"all ports of VLAN {vid} at {device} in {other}", [port(end, pvid=other) for end in inside]
            new, name = vid + (100 if vid < 3900 else -100), {"name": "moved", "state": "active"}
            lists = [port(e, allowed=str(site.ports[e].allowed - VlanSet.of([vid]) | VlanSet.of([new]))) for e in ups]
            gone = site.vlan_gone(vid, device)
            made = [Change("vlans", {"device": device, "vid": new}, name)] if gone else []
            moved = [*(port(end, pvid=new) for end in inside), *lists, *gone, *made]
            yield f"VLAN {vid} is {new} at {device}", moved
            yield f"VLAN {vid} deleted at {device}", site.vlan_gone(vid, device)
            yield from ((f"list of {end} overwritten with {vid}", [port(end, allowed=str(vid))]) for end in ups[:2])


def of_vlans(site):
    """What goes wrong with a VLAN everywhere, or with a link at both ends."""
    for vid in site.vids:
        lists = [(end, site.ports[end].allowed) for end in site.trunks if vid in (site.ports[end].allowed or ())]
        yield (
            f"no trunk carries {vid}",
            [port(end, allowed=str(held - VlanSet.of([vid])) or "none") for end, held in lists],
        )
        yield f"VLAN {vid} exists nowhere", site.vlan_gone(vid)
        rows = [row for row in site.survey.vlans if row.vid == vid]
        keys = [{"device": row.device, "vid": vid} for row in rows]
        yield f"VLAN {vid} suspended everywhere", [Change("vlans", key, {"state": "suspended"}) for key in keys]
    for link in site.links:
        ends = [end for end in (link.a, link.b) if end in site.trunks]
        for vid in (1, *site.vids[:1]) if len(ends) > 1 else ():
            yield f"both ends of {link.a} access {vid}", [port(e, mode="access", pvid=vid, allowed=None) for e in ends]


def of_subnets(site):
    """What goes wrong with a gateway, or with all hosts that ask for it."""
    for row in site.gateways:
        own = row.address.partition("/")[0]
        base, users = own.rpartition(".")[0], [one for one in site.survey.hosts if one.gateway == own]
        wrong = {"ask for .253": {"gateway": f"{base}.253"}, "have no gateway": {"gateway": "none"}}
        for words, cells in wrong.items() if users else ():
            yield f"all of {own} {words}", [host(one, **cells) for one in users]
        for one in users[:1]:
            yield f"{one.host} has its gateway's address", [host(one, address=row.address)]
            yield f"{one.host} has another's address", [host(one, address=two.address) for two in users[1:2]]
        yield f"{row.device} {row.interface} gone", [Change("gateways", gateway(row).key, {}, True)]
        yield f"{row.device} {row.interface} down", [gateway(row, admin="down", oper="down")]
        for other in site.gateways:
            if other is not row and other.device == row.device and other.vid and row.vid:
                label = f"{row.device} {row.interface} and {other.interface} swapped"
                yield f"{label}, addresses", [gateway(row, address=other.address), gateway(other, address=row.address)]
                swapped = ((one, two.vid) for one, two in ((row, other), (other, row)))
                yield f"{label}, tags", [gateway(r, vid=vid) for one, vid in swapped for r in site.all_of(one)]
                break


def judged(survey, changes, told):
    """How a mistake turns out; None if nobody stops by it. What was found goes to `told`."""
    network, was = Network(apply_changes(survey, changes)), reaches(Network(survey))
    now = reaches(network)
    lost = [pair for pair, verdict in was.items() if verdict == "works" and now.get(pair) != "works"]

    def outcome(repair, pairs):
        after = reaches(network.changed(repair)) if repair else now
        fewer = [pair for pair, verdict in now.items() if verdict == was[pair] == "works" != after.get(pair)]
        stops = not all(lucky(context_of(network), *pair) for pair in fewer)
        return ("" if all(after.get(pair) == "works" for pair in pairs) else "NOT ") + "mended" + ", STOPS" * stops

    if not lost:
        return None
    found = check(network).findings
    mends = merge_changes(change for one in found for change in one.repair if one.severity != "note")
    words = [f"{len(lost)} stop", f"{sum(one.severity == 'breaks' for one in found)} found", outcome(mends, lost)]
    for pair in (lost[0], lost[len(lost) // 2]):
        answer = why(network, *pair)
        words.append(f"why {answer.confidence}: {outcome(answer.repair, [pair])}")
        told += [f"{pair}: {one.rule} {one.says} {[*map(str, one.repair)]}" for one in answer.findings]
    told += [f"{one.severity} {one.rule} {one.says} {[*map(str, one.repair)]}" for one in found]
    return "; ".join(words)


def mistakes(folders):
    """All mistakes in each network, one by one: its name, the healthy survey, what is wrong and how."""
    for name, survey in networks(folders):
        site = Site(survey)
        for label, changes in (*at_switches(site), *of_vlans(site), *of_subnets(site)):
            yield name, survey, label, changes


def two_at_once(known, count, chance):
    """Pairs of mistakes in one network that are about other rows each."""
    while count:
        name, survey, label, changes = chance.choice(known)
        _, _, other, more = chance.choice([one for one in known if one[0] == name])
        keys, beside = ({(change.table, str(change.key)) for change in part} for part in (changes, more))
        if keys.isdisjoint(beside):
            count -= 1
            yield name, survey, f"{label} + {other}", [*changes, *more]


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folders", nargs="*")
    parser.add_argument("--only", default="")
    parser.add_argument("--all", action="store_true")
    parser.add_argument("--two", type=int, default=0)
    parser.add_argument("--seed", type=int, default=1)
    words, count, well = parser.parse_args(), 0, 0
    tried = mistakes(words.folders)
    if words.two:
        tried = two_at_once(list(tried), words.two, random.Random(words.seed))
    for name, survey, label, changes in tried:
        told = []
        try:
            said = judged(survey, changes, told) if words.only in label else None
        except CrossThreadError:
            continue  # it cannot be made there
        good = said is not None and "NOT" not in said and "STOPS" not in said
        count, well = count + (said is not None), well + good
        if said is not None and (not good or words.all or words.only):
            print(f"{name} {label}: {said}", *(told if words.only else ()), sep="\n    ")
    print(f"{count} mistakes, {well} mended by check and by why, nobody else stops")


if __name__ == "__main__":
    main()
