"""What an unknown verdict turns on: what was not observed, where to look next, how it will turn."""
