"""Two sites in one survey, with the same VIDs: nothing of the one speaks for or against anything of the other."""

import re
import tempfile
import unittest
from functools import cache
from pathlib import Path

from crossthread import Network, Survey, check, matrix, read_survey, why, why_all, write_survey
from crossthread.survey.records import TABLES
from tests.building import DATA, LAB

RECORDED = [DATA / "recorded" / f"network-{n}" / "survey.json.gz" for n in ("02", "03", "04", "05", "06", "10", "11")]


def elsewhere(text):
    """The same addresses, of other subnets; and back."""
    return re.sub(r"\b([1-9]\d*)\.(\d+)(\.\d+\.\d+)\b", lambda m: f"{m[1]}.{int(m[2]) ^ 8}{m[3]}", text)


def renamed(survey):
    """The same with other names and addresses, as another site that was built alike."""
    names = "|".join(map(re.escape, [*(row.device for row in survey.devices), *(row.host for row in survey.hosts)]))
    with tempfile.TemporaryDirectory() as folder:
        write_survey(survey, folder)
        for table in Path(folder).glob("*.csv"):
            text = re.sub(rf"\b({names})\b(?!-)", r"\1-ii", elsewhere(table.read_text()))
            table.write_text(re.sub(r"\b02(:[0-9a-f]{2}:[0-9a-f]{2}:)", r"06\1", text))
        return read_survey(folder)


@cache
def both(place):
    """One site, and it and the other in one survey."""
    one = read_survey(place)
    other = renamed(one)
    return Network(one), Network(Survey(info=one.info, **{t: (*one.table(t), *other.table(t)) for t in TABLES}))


def told(findings):
    """What breaks: of the first site, and of the other in words of the first."""
    first, other = set(), set()
    for finding in findings:
        if finding.severity == "breaks":
            words = f"{finding.rule} {'; '.join(map(str, finding.repair)) or ' '.join(map(str, finding.subjects))}"
            (other if "-ii" in words else first).add(words)
    return first, {elsewhere(words).replace("-ii", "") for words in other}


class Sites(unittest.TestCase):
    def test_each_is_told_as_if_it_were_alone(self):
        for place in (*(case / "survey" for case in LAB), *RECORDED):
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


if __name__ == "__main__":
    unittest.main()
