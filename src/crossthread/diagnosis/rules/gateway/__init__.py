"""Findings about gateways: interfaces that route, their addresses and subnets, and the ports towards them."""
