"""No answer changes unseen: every question to recorded networks is answered as it was."""

import unittest
from functools import partialmethod

from crossthread import read_survey, why_all
from tests.recording import SURVEYS, answers, differences, recorded
from tests.refusing import Refusing


class Recorded(unittest.TestCase):
    """A test for each network."""

    def same(self, place):
        lines = list(differences(recorded(place), answers(place)))
        self.assertEqual(lines[:5], [], "if that is meant: python -m tests.recording")

    def test_they_are_there(self):
        self.assertGreater(len(SURVEYS), 10)

    def test_what_mends_all_is_work_that_no_device_refuses_and_stops_nobody(self):
        for survey in map(read_survey, SURVEYS):
            answer = why_all(survey)
            Refusing(survey).carry_out(answer.order)
            self.assertGreaterEqual(answer.then.works, answer.now.works)


for survey in SURVEYS:
    setattr(Recorded, f"test_{survey.parent.name.replace('-', '_')}", partialmethod(Recorded.same, survey))


if __name__ == "__main__":
    unittest.main()
