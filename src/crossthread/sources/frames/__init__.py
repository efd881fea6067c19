"""Frames as they were on the wire: captures, neighbour discovery, spanning tree."""
