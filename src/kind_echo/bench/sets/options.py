"""How the files of a set are measured."""

from collections.abc import Iterable
from dataclasses import asdict, dataclass, field, replace
from typing import Any, Literal

from kind_echo.audio_io.codecs import Codec
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.registry.measure import Family

Also = Literal["nothing", "tone", "signal", "lossy"]

_NULL = ("residual_rms", "delay", "gain", "polarity", "clicks", "gaps")
_LEVELS = ("rms", "loudness_integrated", "true_peak", "sample_peak", "crest_factor", "vu_max")
_FIRST: dict[Family, tuple[str, ...]] = {
    "tone": ("fundamental_frequency", "fundamental_level", "thd", "thd_n", "noise_floor"),
    "aliases": ("alias_worst_level", "alias_worst_frequency"),
    "imd": ("imd_smpte", "imd_difference"),
    "response": ("gain_1k", "edge_low", "edge_high", "wall_frequency", "ripple"),
    "latency": ("latency", "latency_jitter", "latency_events"),
    "transfer": ("curve_error_worst", "threshold_estimate", "ratio_estimate"),
    "dynamics": ("attack_time", "release_time", "overshoot"),
    "lossy": ("lossy_true_peak", "lossy_peak_rise", "lossy_headroom", "lossy_edge"),
}
"""Of each family, what tells most."""


@dataclass(frozen=True)
class SetOptions:
    """How each file is compared with the reference, and for what it is measured beside levels.

    Attributes:
        compare: as for any pair.
        resample: bring a file of another rate to the reference's, and compare it then; else its levels stand alone.
        also: a steady tone at `frequency`; a signal of the library that the files answer; what encoding does.
    """

    compare: CompareOptions = field(default_factory=CompareOptions)
    resample: bool = False
    also: Also = "nothing"
    frequency: float | None = None
    signal_id: int | None = None
    codec: Codec = "mp3"
    bitrate: float = 128.0

    def document(self) -> dict[str, Any]:
        """As it is kept."""
        return asdict(self)


def options_from(document: dict[str, Any]) -> SetOptions:
    """The options that a document was made of."""
    made = SetOptions(**{key: value for key, value in document.items() if key != "compare"})
    return replace(made, compare=CompareOptions(**document["compare"]))


def usual_columns(families: Iterable[Family], options: SetOptions, *, against: bool) -> list[str]:
    """What a table shows where nobody chose.

    Args:
        families: that the files are measured by beside levels.
        against: whether there is a reference.
    """
    own = [key for family in families for key in _FIRST.get(family, ())]
    null = [*_NULL, *(["changed_samples", "changed_below"] if options.compare.ceiling is not None else [])]
    return [*(null if against else []), *own, *(_LEVELS[:3] if against or own else _LEVELS)]
