"""Hosts, machines and which of them can render what."""
