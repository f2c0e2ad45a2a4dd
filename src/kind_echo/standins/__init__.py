"""Simulated effects and hosts, which ship with the product."""
