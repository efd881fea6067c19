"""Listening to a network as it is now; what was heard goes to the readers in `sources/`."""
