"""No answer changes unseen: every question to recorded networks is answered as it was."""

import unittest
from functools import partialmethod

from crossthread import Network, read_survey, why_all
from tests.recording import SURVEYS, answers, differences, plainly, recorded
from tests.refusing import Refusing


class Recorded(unittest.TestCase):
    """A test for each network."""

    def same(self, place):
        network = Network(read_survey(place))
        given = answers(place, network)
        lines = list(differences(recorded(place), plainly(given)))
        self.assertEqual(lines[:5], [], "if that is meant: python -m tests.recording")
        with self.subTest("what mends all is work that no device refuses, and stops nobody"):
            answer = given.get("why all") or why_all(network)
            Refusing(network.told).carry_out(answer.order)
            self.assertGreaterEqual(answer.then.works, answer.now.works)

    def test_they_are_there(self):
        self.assertGreater(len(SURVEYS), 10)


for survey in SURVEYS:
    setattr(Recorded, f"test_{survey.parent.name.replace('-', '_')}", partialmethod(Recorded.same, survey))


if __name__ == "__main__":
    unittest.main()
