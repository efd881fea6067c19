"""Numeric walks of SNMP agents."""
