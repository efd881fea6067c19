"""The command line: arguments in, one question, one face out."""

import gc

gc.disable()  # records hold no cycles, and looking for them among a million takes longer than most questions

from crossthread.cli.app import main  # noqa: E402  (loading is quicker so, too)

__all__ = ["main"]
