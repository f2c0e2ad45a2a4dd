"""What ends a command with a status of its own."""

from kind_echo.core.registry.errors import KindEchoError


class NoAnswer(KindEchoError):
    """A server or database does not answer; it may later."""


class TimeOut(KindEchoError):
    """What was waited for did not come in the time that was given."""


class RowsFailed(KindEchoError):
    """Of several files some could not be read or compared; the others were, and are printed."""

    def __init__(self, failed: int, of: int) -> None:
        self.failed, self.of = failed, of
        super().__init__(f"{failed} of {of} files could not be read or compared; their rows say why.")


class LimitBroken(Exception):
    """A limit given on the command line does not hold; the exit status says so."""
