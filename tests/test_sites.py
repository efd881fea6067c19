"""What must make no difference: another site with the same VIDs in the same survey, and which version of IP it is."""

import re
import tempfile
import unittest
from functools import cache
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

from crossthread import Network, Survey, apply_changes, check, matrix, read_survey, why, why_all, write_survey
from crossthread.demo import healthy
from crossthread.survey.records import TABLES
from tests.building import DATA, LAB
from tests.yard import at, yard

RECORDED = [DATA / "recorded" / f"network-{n}" / "survey.json.gz" for n in ("02", "03", "04", "05", "06", "10", "11")]
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


if __name__ == "__main__":
    unittest.main()
