"""What follows from a survey: links, segments, spanning trees, stations, routes, and the ways of packets."""

from crossthread.network.network import Network
from crossthread.network.routing.forwarding import Forwarding

__all__ = ["Forwarding", "Network"]
