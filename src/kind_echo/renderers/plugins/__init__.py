"""Plug-ins of open standards: found, described, and run, each in a process of its own."""
