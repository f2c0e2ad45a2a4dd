"""Runs of a plan: starting, stopping, what holds them up, the first build that differs."""
