"""The command line: arguments in, one question, one face out."""

from crossthread.cli.app import main

__all__ = ["main"]
