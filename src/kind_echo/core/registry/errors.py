"""The errors of the core: a caller's mistake, as opposed to a signal that cannot be measured."""


class KindEchoError(Exception):
    """Base of all errors that Kind Echo raises on purpose; the text is one sentence a person can act on."""


class RateMismatch(KindEchoError):
    """Two sides of a comparison have different sample rates."""

    def __init__(self, reference: int, render: int) -> None:
        self.reference, self.render = reference, render
        super().__init__(
            f"The reference is at {reference} Hz and the render at {render} Hz; "
            "sample by sample only files of one rate can be compared."
        )


class ChannelMismatch(KindEchoError):
    """Two sides of a comparison have different numbers of channels."""

    def __init__(self, reference: int, render: int) -> None:
        self.reference, self.render = reference, render
        super().__init__(
            f"The reference has {_count(reference)} and the render {_count(render)}; "
            "only files with the same number of channels can be compared."
        )


class BadParameter(KindEchoError):
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
