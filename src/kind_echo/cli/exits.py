"""What ends a command with a status of its own."""

from kind_echo.core.registry.errors import KindEchoError


class NoAnswer(KindEchoError):
    """A server or database does not answer; it may later."""


class TimeOut(KindEchoError):
    """What was waited for did not come in the time that was given."""


class LimitBroken(Exception):
    """A limit given on the command line does not hold; the exit status says so."""
