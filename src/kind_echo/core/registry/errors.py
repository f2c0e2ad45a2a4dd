"""The kinds of all errors, and the errors of the core: mistakes of a caller, not signals that cannot be measured."""


class KindEchoError(Exception):
    """Base of all errors that Kind Echo raises on purpose; the text is one sentence a person can act on."""


class Unauthenticated(KindEchoError):
    """Not authenticated."""


class Forbidden(KindEchoError):
    """Authenticated, and not allowed."""


class NotFound(KindEchoError):
    """What is asked for is not there."""


class Conflict(KindEchoError):
    """What is asked for does not go with how things stand."""


class Invalid(KindEchoError):
    """What was given can be read, and is not valid."""


class Unavailable(KindEchoError):
    """What is asked for cannot be had for the time being; the same may work later.

    `retry_after` is in how many seconds it may, where that is known.
    """

    retry_after: int | None = None


class RateMismatch(Invalid):
    """Two sides of a comparison have different sample rates."""

    def __init__(self, reference: int, render: int) -> None:
        self.reference, self.render = reference, render
        super().__init__(
            f"The reference is at {reference} Hz and the render at {render} Hz; "
            "sample by sample only files of one rate can be compared. "
            "On the command line, --resample brings the render to the reference's rate."
        )


class ChannelMismatch(Invalid):
    """Two sides of a comparison have different numbers of channels."""

    def __init__(self, reference: int, render: int) -> None:
        self.reference, self.render = reference, render
        super().__init__(
            f"The reference has {_count(reference)} and the render {_count(render)}; "
            "only files with the same number of channels can be compared."
        )


class BadParameter(Invalid):
    """A parameter lies outside what the function can do."""

    def __init__(self, name: str, value: object, allowed: str) -> None:
        self.name, self.value, self.allowed = name, value, allowed
        super().__init__(f"{name}={value} is invalid: it must be {allowed}.")


class UnknownMeasure(KindEchoError):
    """A measure is named that the registry does not hold."""

    def __init__(self, key: str) -> None:
        self.key = key
        super().__init__(f"There is no measure named {key!r}.")


def _count(channels: int) -> str:
    return "1 channel" if channels == 1 else f"{channels} channels"
