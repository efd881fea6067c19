"""Findings about hosts: their link and place, their address, its subnet, their gateway."""
