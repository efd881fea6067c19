"""Findings about ports: up or down, their VLAN and mode, whom they admit, how well they run."""
