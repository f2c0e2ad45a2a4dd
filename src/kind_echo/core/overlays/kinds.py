"""What many files can be laid over each other by."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal, get_args

from kind_echo.core.registry.errors import BadParameter

KindKey = Literal[
    "response", "transfer", "gain", "harmonics", "spectrum", "third_octaves", "loudness", "level", "waveform"
]

Join = Literal["line", "steps"]
"""Whether there is something between the points of a curve: of a line there is, of single steps there is not."""


@dataclass(frozen=True)
class Kind:
    """One kind of curve.

    Attributes:
        x_unit, y_unit: as of its curves; "" for numbers that have none.
        join: of a line a difference is taken at any place, of steps at those that both have.
        least: of the unit upwards; what is under it is not looked at. None for all.
        measured: whether it comes of measuring a render against its signal; else of any audio.
    """

    key: KindKey
    x_unit: str
    y_unit: str
    join: Join = "line"
    least: float | None = None
    measured: bool = False

    @property
    def has_differences(self) -> bool:
        """Whether the difference to the reference is a curve of its own; of waveforms it is a pair's to show."""
        return self.key != "waveform"

    @property
    def difference_unit(self) -> str:
        """Of a difference: of two levels decibels, whatever each is referred to."""
        return {"dBFS": "dB", "LUFS": "LU"}.get(self.y_unit, self.y_unit)


KINDS: Mapping[KindKey, Kind] = {
    kind.key: kind
    for kind in (
        Kind("response", "Hz", "dB", least=-100.0, measured=True),
        Kind("transfer", "dBFS", "dBFS", join="steps", measured=True),
        Kind("gain", "s", "dB", measured=True),
        Kind("harmonics", "", "dB", join="steps", measured=True),
        Kind("spectrum", "Hz", "dBFS", least=-160.0),
        Kind("third_octaves", "Hz", "dBFS", join="steps", least=-160.0),
        Kind("loudness", "s", "LUFS", least=-80.0),
        Kind("level", "s", "dBFS", least=-120.0),
        Kind("waveform", "s", "FS"),
    )
}
"""In the order in which they are offered."""


def kind_named(key: str) -> Kind:
    """The kind of that key. Raises BadParameter for a key that none has."""
    for kind in KINDS.values():
        if kind.key == key:
            return kind
    raise BadParameter("kind", repr(key), f"one of {', '.join(get_args(KindKey))}")
