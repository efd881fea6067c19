"""Whom mends cost: how verdicts turn with them, and which mends are therefore only told."""
