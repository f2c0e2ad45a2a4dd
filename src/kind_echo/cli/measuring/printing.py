"""Tables for a person to read; in a file or a build log each row stays on its line, so that it can be searched."""

import sys

from rich.console import Console

_WIDE = 4000  # characters, beyond any row


def console_for_tables() -> Console:
    """A console as wide as the terminal; wide enough for any row where there is none.

    Brackets and colons in a name are that, and no style or picture.
    """
    return Console(soft_wrap=True, markup=False, emoji=False, width=None if sys.stdout.isatty() else _WIDE)
