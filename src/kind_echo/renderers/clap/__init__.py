"""Plug-ins of the CLAP open standard, hosted in a process of their own for each render."""
