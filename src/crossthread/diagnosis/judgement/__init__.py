"""Which explanation fits everything best: witnesses of what settings should be, what they weigh, how sure that is."""
