"""Repairs: which mends would do, in what order, what else they touch, and the proof."""
