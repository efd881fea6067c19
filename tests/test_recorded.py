"""No answer changes unseen: every question to recorded networks is answered as it was."""

import unittest
from functools import partialmethod

from tests.recording import SURVEYS, answers, differences, recorded


class Recorded(unittest.TestCase):
    """A test for each network."""

    def same(self, place):
        lines = list(differences(recorded(place), answers(place)))
        self.assertEqual(lines[:5], [], "if that is meant: python -m tests.recording")

    def test_they_are_there(self):
        self.assertGreater(len(SURVEYS), 10)


for survey in SURVEYS:
    setattr(Recorded, f"test_{survey.parent.name.replace('-', '_')}", partialmethod(Recorded.same, survey))


if __name__ == "__main__":
    unittest.main()
