"""No answer changes unseen: every question to recorded networks is answered as it was."""

import unittest

from tests.recording import SURVEYS, answers, differences, recorded


class Recorded(unittest.TestCase):
    def test_every_question_is_answered_as_it_was(self):
        self.assertGreater(len(SURVEYS), 10)
        for place in SURVEYS:
            with self.subTest(place.parent.name):
                lines = list(differences(recorded(place), answers(place)))
                self.assertEqual(lines[:5], [], "if that is meant: python -m tests.recording")


if __name__ == "__main__":
    unittest.main()
