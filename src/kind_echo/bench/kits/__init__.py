"""Kits for hosts that a person renders in, and what comes back."""
