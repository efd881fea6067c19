"""What follows from a survey: links, segments, spanning trees, stations, routes, and the ways of packets."""

from crossthread.network.forwarding import Forwarding
from crossthread.network.network import Network

__all__ = ["Forwarding", "Network"]
