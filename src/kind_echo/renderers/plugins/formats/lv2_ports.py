"""The ports of a plug-in of the LV2 standard."""

from dataclasses import dataclass

from kind_echo.renderers.plugins.model import PluginParameter

KINDS = ("audio", "control", "cv", "events")


@dataclass(frozen=True)
class Port:
    """A port: its place, what it carries, its direction; of a control its bounds.

    `kind` is one of `KINDS`, "side" for the audio of a side chain, which is fed silence, or "other".
    """

    index: int
    symbol: str
    name: str
    kind: str
    is_input: bool
    optional: bool
    least: float
    greatest: float
    default: float
    stepped: bool
    unit: str
    points: tuple[tuple[str, float], ...]
    role: str

    @property
    def bypass(self) -> float | None:
        """The value at which the plug-in passes on what it is given."""
        return 0.0 if self.role == "enabled" else None


def parameter_of(port: Port) -> PluginParameter:
    """A control port, as it is told of."""
    text = next((label for label, value in port.points if value == port.default), "")
    return PluginParameter(
        port.symbol, port.symbol, port.least, port.greatest, port.default, port.stepped, text, port.name, port.unit,
        bypass=port.bypass,
    )  # fmt: skip
