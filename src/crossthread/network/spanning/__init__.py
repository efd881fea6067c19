"""Spanning trees: what decides them, and what each port does by the standard."""
