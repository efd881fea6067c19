"""The demo: the campus of a made-up maritime museum with a boatyard, healthy and with faults, and a walk through it."""

from crossthread.demo.campus import healthy
from crossthread.demo.faults import FAULTS, faulty

__all__ = ["FAULTS", "faulty", "healthy"]
