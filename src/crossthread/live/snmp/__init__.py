"""Asking devices by SNMP: messages, the ways to send them, and reading a device's columns; nothing is ever set."""
