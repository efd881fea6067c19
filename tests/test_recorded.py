"""No answer changes unseen: every question to recorded networks is answered as it was."""

import unittest
from functools import partialmethod

from tests.recording import EDITED, SURVEYS, answers, differences, edited, kept, recorded


class Recorded(unittest.TestCase):
    """A test for each network."""

    def same(self, place):
        lines = list(differences(recorded(place), answers(place)))
        self.assertEqual(lines[:5], [], "if that is meant: python -m tests.recording")

    def test_they_are_there(self):
        self.assertGreater(len(SURVEYS), 10)


class Edited(unittest.TestCase):
    """A test for each network of which one cell after the other is edited."""

    def same(self, name):
        was, now = kept(name), list(edited(name))
        self.assertEqual(len(was), len(now))
        for old, new in zip(was, now, strict=True):
            self.assertEqual(old, new, "if that is meant: python -m tests.recording")


for survey in SURVEYS:
    setattr(Recorded, f"test_{survey.parent.name.replace('-', '_')}", partialmethod(Recorded.same, survey))
for network in EDITED:
    setattr(Edited, f"test_{network.replace('-', '_')}", partialmethod(Edited.same, network))


if __name__ == "__main__":
    unittest.main()
