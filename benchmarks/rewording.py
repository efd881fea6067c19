"""Whether what is answered turns on how a network is told: the same one, in other words. No timings.

    python benchmarks/rewording.py FOLDER... [--only NAME,NAME]

FOLDER holds cases as `imagined.py` or a lab writes them, or is a survey itself. Each is told again in many ways that
mean the same: what a port's mode says anyway is written down, links are aggregates of one member, neighbours are named
by chassis, by port address, or with a domain, routers have one named routing table, addresses are of IPv6, telephones
stand on the desks, an ARP cache has heard whoever it hears. Then every verdict, what `check` says that breaks with its
mends, and `why` of two pairs that fail are compared, other than what is different because it is told otherwise.
"""

import argparse
import dataclasses
import re
from collections import Counter
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

from msgspec.structs import replace

from crossthread import Network, check, map_network, matrix, read_survey, why
from crossthread.network.routing.forwarding import Forwarding
from crossthread.survey.records import TABLES
from crossthread.values import NONE, VlanSet

SIX = int(IPv6Address("2001:db8::"))
BRIDGED = ("access", "trunk")


def told(survey, **tables):
    return dataclasses.replace(survey, **{name: tuple(rows) for name, rows in tables.items()})


def own(port):
    return VlanSet.of([port.pvid] if port.pvid else [])


def each_port(survey, change):
    return told(survey, ports=[change(port) for port in survey.ports])


def modes_spelled_out(survey):
    def full(port):
        if port.mode not in BRIDGED or port.pvid is None:
            return port
        allowed = own(port) if port.mode == "access" else port.allowed
        return replace(port, allowed=allowed, untagged=own(port) if allowed is None else own(port) & allowed)

    return each_port(survey, full)


def defaults_spelled_out(survey):
    said = {"isolated": "no", "authorized": "yes", "tagging": "802.1Q", "frames": "all", "ingress_filter": "yes"}
    survey = each_port(survey, lambda port: replace(port, lag=NONE, **(said if port.mode in BRIDGED else {})))
    unfiltered = {"virtual": NONE, "filter_in": NONE, "filter_out": NONE}
    return told(survey, gateways=[replace(row, **unfiltered) for row in survey.gateways])


def vlans_listed(survey):
    lists = [port.allowed for port in survey.ports if port.allowed is not None and len(port.allowed) < 200]
    vids = {
        1,
        *(port.pvid for port in survey.ports),
        *(row.vid for row in survey.gateways),
        *(v for x in lists for v in x),
    }
    bridges = {port.device for port in survey.ports if port.mode in BRIDGED} if not survey.vlans else ()
    new = [
        TABLES["vlans"](device=d, vid=vid, state="active")
        for d in sorted(bridges)
        for vid in sorted(filter(None, vids))
    ]
    return told(survey, vlans=[*survey.vlans, *new])


def trees_computed(survey):
    rows = [replace(row, role=None, state=None) for row in survey.tree_ports]
    roots = dict.fromkeys(("root_priority", "root_address", "root_cost", "root_port"))
    return told(survey, tree_ports=rows, trees=[replace(row, **roots) for row in survey.trees])


def heard_at_one_end(survey):
    links = {frozenset(((n.device, n.port), (n.neighbor, n.neighbor_port))): n for n in survey.neighbors}
    return told(survey, neighbors=links.values())


def neighbors_by(**change):
    """A form in which neighbours' rows are changed, each by what it gives for the row."""
    return lambda survey: told(
        survey,
        neighbors=[
            replace(row, **{name: give(survey, row) for name, give in change.items()}) for row in survey.neighbors
        ],
    )


def chassis(survey, row):
    return row.neighbor_chassis or next((d.chassis for d in survey.devices if d.device == row.neighbor), None)


def port_address(survey, row):
    ends = {(port.device, port.port): port.mac for port in survey.ports}
    return ends.get((row.neighbor, row.neighbor_port)) or row.neighbor_port


def in_capitals(survey):
    names = ("hosts", "gateways", "routes", "tree_ports")
    return told(
        survey, **{n: [replace(r, device=(r.device or "").upper() or None) for r in survey.table(n)] for n in names}
    )


def by_aliases(survey):
    called = {(port.device, port.port): f"socket {number}" for number, port in enumerate(survey.ports)}
    ports = [replace(port, aliases=(called[port.device, port.port].replace(" ", "-"),)) for port in survey.ports]
    words = {key: name.replace(" ", "-") for key, name in called.items()}
    rows = {name: [replace(row, port=words.get((row.device, row.port), row.port)) for row in survey.table(name)]
            for name in ("hosts", "gateways", "tree_ports", "macs")}  # fmt: skip
    heard = [
        replace(n, neighbor_port=words.get((n.neighbor, n.neighbor_port), n.neighbor_port)) for n in survey.neighbors
    ]
    return told(survey, ports=ports, neighbors=heard, **rows)


def one_routing_table(survey):
    rows = {name: [replace(row, table="yard") for row in survey.table(name)] for name in ("gateways", "routes")}
    return told(survey, **rows), lambda text: re.sub(r" yard(?=:)|, table = yard", "", text)


def aggregates(survey):
    ends = {(port.device, port.port): port for port in survey.ports}
    whole = {}
    for number, link in enumerate(map_network(Network(survey)).links):
        both = [(end.device, end.port) for end in (link.a, link.b)]
        if number % 2 == 0 and all(end in ends and ends[end].mode in BRIDGED for end in both):
            whole |= dict.fromkeys(both, f"bundle-{number}")
    rows = []
    for key, port in ends.items():
        rows.append(replace(port, port=whole.get(key, port.port)))
        if key in whole:
            kept = ("device", "port", "mac", "description", "admin", "oper", "speed", "duplex", "mtu", "discovery")
            attached = "attached" if port.oper == "up" else None
            cells = {name: getattr(port, name) for name in kept}
            rows.append(TABLES["ports"](**cells, lag=whole[key], lag_state=attached))
    moved = {name: [replace(row, port=whole.get((row.device, row.port), row.port)) for row in survey.table(name)]
             for name in ("tree_ports", "macs")}  # fmt: skip
    trees = [replace(row, root_port=whole.get((row.device, row.root_port), row.root_port)) for row in survey.trees]
    names = {f"{device} {bundle}": f"{device} {port}" for (device, port), bundle in whole.items()}

    def back(text):
        for bundle, port in names.items():
            text = re.sub(rf"\b{bundle}\b", port, text)
        return text

    return told(survey, ports=rows, trees=trees, **moved), back


def by_six(text):
    """An address, prefix or gateway as one of IPv6."""
    if text in (None, NONE) or ":" in text:
        return text
    ip, _, length = text.partition("/")
    new = "::" if text == "0.0.0.0/0" else str(IPv6Address(SIX + int(IPv4Address(ip))))
    return new + (f"/{0 if text == '0.0.0.0/0' else int(length) + 96}" if length else "")


def by_four(text):
    def one(match):
        number = int(IPv6Address(match[1])) - SIX
        return (
            f"{IPv4Address(number)}{f'/{int(match[2]) - 96}' if match[2] else ''}"
            if 0 <= number < 1 << 32
            else match[0]
        )

    return re.sub(r"(2001:db8:[0-9a-f:]*[0-9a-f])(?:/(\d+))?", one, text.replace("::/0", "0.0.0.0/0"))


def six_alone(survey):
    new = {
        "hosts": ("address", "gateway"),
        "gateways": ("address",),
        "routes": ("prefix", "next_hop"),
        "arp": ("address",),
    }
    rows = {name: [replace(row, **{c: by_six(getattr(row, c)) for c in columns}) for row in survey.table(name)]
            for name, columns in new.items()}  # fmt: skip
    return told(survey, **rows), by_four


def besides(address):
    """A form in which each interface has one address more."""

    def form(survey):
        held = [(n, row) for n, row in enumerate(survey.gateways) if row.address not in (None, NONE)]
        more = [replace(row, address=address(n, row)) for n, row in held]
        return told(survey, gateways=dict.fromkeys((*survey.gateways, *more)))

    return form


def telephones(survey):
    desks = {(host.device, host.port) for host in survey.hosts}
    access = [
        p for p in survey.ports if (p.device, p.port) in desks and p.mode == "access" and p.pvid and p.oper == "up"
    ]
    called = {"protocol": "lldp", "neighbor_port": "port 1", "capabilities": ("bridge", "phone"), "ttl": 120}
    heard = [
        TABLES["neighbors"](device=p.device, port=p.port, neighbor=f"phone-{n}",
                            neighbor_chassis=f"06:00:00:00:{n >> 8:02x}:{n & 255:02x}", **called)
        for n, p in enumerate(access)
    ]  # fmt: skip
    survey = each_port(survey, lambda port: replace(port, voice=4001) if port in access else port)
    return told(survey, neighbors=[*survey.neighbors, *heard])


def learned(survey):
    """Hosts of which only a filtering database tells where they are."""
    ports = {(p.device, p.port): p for p in survey.ports if p.mode == "access" and p.pvid and p.oper == "up"}
    known = {(row.device, row.mac) for row in survey.macs}
    there = [h for h in survey.hosts if h.mac and h.link != "down" and (h.device, h.port) in ports]
    there = [host for host in there if (host.device, host.mac) not in known]
    entries = [TABLES["macs"](device=h.device, vid=ports[h.device, h.port].pvid, mac=h.mac, port=h.port, kind="learned")
               for h in there]  # fmt: skip
    hosts = [replace(host, device=None, port=None) if host in there else host for host in survey.hosts]
    return told(survey, hosts=hosts, macs=[*survey.macs, *entries])


def heard_by_gateways(survey):
    """What the ARP caches of gateways hold of whoever asks them."""
    network = Network(survey)
    forwarding, stations = Forwarding(network), network.stations
    held = {(row.device, row.address) for row in survey.arp}
    new = {}
    for row in survey.hosts:
        host = stations.hosts[row.host.casefold()]
        for gateway in stations.by_address.of(str(row.gateway)) if row.gateway not in (None, NONE) else ():
            key = (gateway.device, str(host.ip))
            asks = row.mac and host.ip is not None and hasattr(gateway.row, "interface") and key not in held
            if asks and forwarding.resolves(host, gateway):
                cells = {"device": gateway.device, "interface": gateway.name, "address": str(host.ip), "mac": row.mac}
                new[key] = TABLES["arp"](**cells)
    return told(survey, arp=[*survey.arp, *new.values()])


FORMS = {
    "modes": modes_spelled_out, "defaults": defaults_spelled_out, "vlans": vlans_listed, "trees": trees_computed,
    "one-end": heard_at_one_end, "chassis": neighbors_by(neighbor=lambda *_: None, neighbor_chassis=chassis),
    "domain": neighbors_by(neighbor=lambda _, row: f"{row.neighbor}.yard.example"),
    "port-address": neighbors_by(neighbor_port=port_address), "described": lambda survey: told(survey, neighbors=[]),
    "capitals": in_capitals, "aliases": by_aliases, "table": one_routing_table, "aggregates": aggregates,
    "ipv6": six_alone, "ipv6-beside": besides(lambda _, row: by_six(row.address)),
    "link-local": besides(lambda n, _: f"fe80::{n + 1:x}/64"),
    "second": besides(lambda n, _: f"198.51.{100 + n // 32}.{n % 32 * 8 + 1}/29"),
    "telephones": telephones, "learned": learned, "heard": heard_by_gateways,
}  # fmt: skip
MORE = re.compile(r"gateways \S+ \S+ (fe80::|198\.51\.1|2001:db8::)")
"""Changes of the addresses that an interface has besides: an interface is edited as a whole."""


def mends(repair, back=str):
    return frozenset(text for text in (back(str(change)) for change in repair) if not MORE.match(text))


def breaks(network, back=str):
    found = (finding for finding in check(network).findings if finding.severity == "breaks")
    return Counter((f.rule, back(" ".join(map(str, f.subjects[:1]))), mends(f.repair, back)) for f in found)


def differences(plain, form):
    """What is answered otherwise about a network that is told in another form."""
    found = form(plain.survey)
    survey, back = found if isinstance(found, tuple) else (found, str)
    other = Network(survey)
    verdicts, now = ({(a, b): verdict for a, b, verdict in matrix(one).reaches} for one in (plain, other))
    yield from (
        f"{' to '.join(pair)}: {verdict}, now {now[pair]}" for pair, verdict in verdicts.items() if now[pair] != verdict
    )
    before, after = breaks(plain), breaks(other, back)
    yield from (
        f"check, only {word}: {one}"
        for word, more in (("before", before - after), ("now", after - before))
        for one in more
    )
    for pair in [pair for pair, verdict in verdicts.items() if verdict == "fails" and pair[0] < pair[1]][:2]:
        one, two = why(plain, *pair), why(other, *pair)
        told_of = (one.confidence, sorted(mends(one.repair))), (two.confidence, sorted(mends(two.repair, back)))
        if told_of[0] != told_of[1]:
            yield f"why {' '.join(pair)}: {told_of[0]}, now {told_of[1]}"


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folders", nargs="+", type=Path)
    parser.add_argument("--only", default=",".join(FORMS))
    given = parser.parse_args()
    places = [case for f in given.folders for case in sorted(f.glob("case-*/survey")) or [f]]
    count = Counter()
    for place in places:
        plain = Network(read_survey(place))
        for name in given.only.split(","):
            lines = list(differences(plain, FORMS[name]))
            count[name] += bool(lines)
            print(*(f"{name} {place}: {line}" for line in lines), sep="\n", end="\n" * bool(lines), flush=True)
    print(f"{len(places)} surveys, each told in {len(given.only.split(','))} other ways; differing: {dict(+count)}")


if __name__ == "__main__":
    main()
