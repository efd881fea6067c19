"""No answer to an edited network changes unseen: what each edit of a cell leads to is what was recorded."""

import unittest
from functools import partialmethod

from tests.recording import EDITED, differences, edited, kept


class Edited(unittest.TestCase):
    """A test for each network of which one cell after the other is edited."""

    def same(self, name):
        was, now = kept(name), list(edited(name))
        self.assertEqual(len(was), len(now))
        lines = [line for old, new in zip(was, now, strict=True) for line in differences(old, new, str(new["edit"]))]
        self.assertEqual(lines[:5], [], "if that is meant: python -m tests.recording")


for network in EDITED:
    setattr(Edited, f"test_{network.replace('-', '_')}", partialmethod(Edited.same, network))


if __name__ == "__main__":
    unittest.main()
