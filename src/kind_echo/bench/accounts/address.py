"""Where people reach the page."""

import os

ADDRESS_VARIABLE = "KIND_ECHO_ADDRESS"
"""Links that are printed and sent begin with it."""


def page_address() -> str:
    """Where people reach the page, without a slash at its end."""
    return os.environ.get(ADDRESS_VARIABLE, "http://127.0.0.1:8765").rstrip("/")
