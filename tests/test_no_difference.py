"""What must make no difference: another site in the same survey, which version of IP it is, and how it is written."""

import dataclasses
import re
import tempfile
import unittest
from functools import cache
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

from msgspec.structs import replace

from crossthread import Network, Survey, apply_changes, check, matrix, read_survey, why, why_all, write_survey
from crossthread.demo import healthy
from crossthread.survey.records import TABLES
from crossthread.values import VlanSet
from tests.building import DATA, LAB
from tests.refusing import Refusing
from tests.yard import at, interface, yard

RECORDED = [DATA / "recorded" / f"network-{n}" / "survey.json.gz" for n in ("02", "03", "05", "06", "10", "11")]
PLACES = [*(case / "survey" for case in LAB), *RECORDED]
_SIX = 0xFD52 << 112


def rewritten(survey, change):
    """The same with the text of each of its tables changed."""
    with tempfile.TemporaryDirectory() as folder:
        write_survey(survey, folder)
        for table in Path(folder).glob("*.csv"):
            table.write_text(change(table.read_text()))
        return read_survey(folder)


def elsewhere(text):
    """The same addresses, of other subnets; and back."""
    return re.sub(r"\b([1-9]\d*)\.(\d+)(\.\d+\.\d+)\b", lambda m: f"{m[1]}.{int(m[2]) ^ 8}{m[3]}", text)


def renamed(survey):
    """The same with other names and addresses, as another site that was built alike."""
    names = "|".join(map(re.escape, [*(row.device for row in survey.devices), *(row.host for row in survey.hosts)]))

    def change(text):
        text = re.sub(rf"\b({names})\b(?!-)", r"\1-ii", elsewhere(text))
        return re.sub(r"\b02(:[0-9a-f]{2}:[0-9a-f]{2}:)", r"06\1", text)

    return rewritten(survey, change)


@cache
def both(place):
    """One site, and it and the other in one survey."""
    one = read_survey(place)
    other = renamed(one)
    return Network(one), Network(Survey(info=one.info, **{t: (*one.table(t), *other.table(t)) for t in TABLES}))


def worded(finding):
    return f"{finding.rule} {'; '.join(map(str, finding.repair)) or ' '.join(map(str, finding.subjects))}"


def told(findings):
    """What breaks: of the first site, and of the other in words of the first."""
    first, other = set(), set()
    for finding in findings:
        if finding.severity == "breaks":
            (other if "-ii" in worded(finding) else first).add(worded(finding))
    return first, {elsewhere(words).replace("-ii", "") for words in other}


class Sites(unittest.TestCase):
    def test_a_link_gets_no_vlan_of_another_site(self):
        access = [at(device, "t1", mode="access", pvid=10, allowed="") for device in ("loft", "keel")]
        one, other = apply_changes(yard(), access), healthy()
        two = Survey(info=one.info, **{t: (*one.table(t), *other.table(t)) for t in TABLES})
        mends = [{*map(str, why(each, "till-loft-1", "till-keel-1").repair)} for each in (one, two)]
        self.assertEqual(mends[0], mends[1])
        self.assertIn("ports loft t1: mode = trunk", "".join(mends[0]))

    def test_each_is_told_as_if_it_were_alone(self):
        for place in PLACES:
            one, two = both(place)
            alone, _ = told(check(one).findings)
            self.assertEqual(told(check(two).findings), (alone, alone), place)

    def test_nobody_is_missed_between_them(self):
        for case in LAB:
            one, two = both(case / "survey")
            self.assertEqual(why_all(two).now.wanted, 2 * why_all(one).now.wanted)
            across = [pair for finding in check(two).findings if (pair := finding.example)]
            self.assertEqual([(a, b) for a, b in across if ("-ii" in a) != ("-ii" in b)], [])

    def test_of_a_pair_across_it_is_said_that_nothing_joins_them(self):
        _, two = both(LAB[0] / "survey")
        a, b = next((a, b) for a, b, _ in matrix(two).reaches if b == f"{a}-ii")
        self.assertIn("nothing that was read joins the networks", why(two, a, b).stopped)


def by_six(text):
    """The same addresses, prefixes and gateways, by IPv6."""

    def one(match):
        length = f"/{96 + int(match[2])}" if match[2] else ""
        return f"{IPv6Address(_SIX + int(IPv4Address(match[1])))}{length}"

    text = text.replace("0.0.0.0/0", "::/0")
    return re.sub(r"\b(\d+\.\d+\.\d+\.\d+)(?:/(\d+))?\b(?![.\d])", one, text)


class Versions(unittest.TestCase):
    def test_by_ipv6_the_same_pairs_work_and_the_same_is_found(self):
        for place in PLACES:
            four = Network(read_survey(place))
            six = Network(rewritten(four.survey, by_six))
            self.assertEqual(matrix(six).reaches, matrix(four).reaches, place)
            found = {by_six(worded(finding)): (finding.severity, finding.affected) for finding in check(four).findings}
            self.assertEqual({worded(f): (f.severity, f.affected) for f in check(six).findings}, found, place)

    def test_with_both_everything_is_mended_that_is_with_one(self):
        for place in PLACES:
            four = read_survey(place)
            two, one = why_all(beside_six(four)), why_all(four)
            self.assertEqual((two.now, two.then, len(two.mends)), (one.now, one.then, len(one.mends)), place)
            Refusing(beside_six(four)).carry_out(two.order)
            done = apply_changes(beside_six(four), two.repair)
            self.assertEqual(why_all(done).now, two.then, place)

    def test_what_is_cleared_first_is_in_the_repair_of_both(self):
        swapped = [interface("crane", f"g1.{subnet}", subnet, vid=30 - subnet) for subnet in (10, 20)]
        answer = why(beside_six(apply_changes(yard(), swapped)), "desk-loft-1", "till-keel-1")
        tags = [(c.key["interface"], c.cells["vid"]) for c in answer.repair]
        self.assertEqual(tags[::2], tags[1::2])  # a row for each version
        self.assertEqual([vid for _, vid in tags[::2]], ["", tags[2][1], 30 - tags[2][1]])


def beside_six(survey):
    """The same network with addresses of both versions of IP."""
    six = rewritten(survey, by_six)

    def joined(*texts):
        return " ".join(dict.fromkeys(filter(None, texts))) or None

    hosts = [
        replace(one, address=joined(one.address, two.address), gateway=joined(one.gateway, two.gateway))
        for one, two in zip(survey.hosts, six.hosts, strict=True)
    ]
    rows = {name: dict.fromkeys((*survey.table(name), *six.table(name))) for name in ("gateways", "routes")}
    return dataclasses.replace(survey, hosts=tuple(hosts), **{name: tuple(held) for name, held in rows.items()})


def spelled_out(survey):
    """The same with what a port's mode says anyway written down besides."""

    def full(port):
        if port.mode not in ("access", "trunk") or port.pvid is None:
            return port
        own = VlanSet.of([port.pvid] if port.pvid else [])
        allowed = own if port.mode == "access" else port.allowed
        return replace(port, allowed=allowed, untagged=own if allowed is None else own & allowed)

    return dataclasses.replace(survey, ports=tuple(map(full, survey.ports)))


def in_one_table(survey):
    """The same where every router has all in a routing table that has a name."""
    tables = {name: tuple(replace(row, table="yard") for row in survey.table(name)) for name in ("gateways", "routes")}
    return dataclasses.replace(survey, **tables)


class Words(unittest.TestCase):
    def test_how_the_same_is_written_changes_no_answer(self):
        for place in PLACES:
            plain = Network(read_survey(place))
            failing = [(a, b) for a, b, verdict in matrix(plain).reaches if verdict == "fails" and a < b][:2]
            for other in (spelled_out, in_one_table):
                network = Network(other(plain.survey))
                self.assertEqual(matrix(network).reaches, matrix(plain).reaches, place)
                found, before = (told(check(each).findings)[0] for each in (network, plain))
                self.assertEqual({re.sub(" yard(?=:)|, table = yard", "", words) for words in found}, before, place)
                for pair in failing:
                    now, then = why(network, *pair), why(plain, *pair)
                    self.assertEqual((now.confidence, len(now.repair)), (then.confidence, len(then.repair)), pair)


if __name__ == "__main__":
    unittest.main()
