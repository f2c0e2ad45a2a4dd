"""Level maps, needles and running spectra as they are sent."""

from kind_echo.core.audio.level_map import FLOOR, LevelMap
from kind_echo.core.levels import needles
from kind_echo.core.levels.running_bands import RunningBands
from kind_echo.web.http.pair_schemas import LevelMapBody, NeedlesBody, RunningBandsBody


def level_map_body(found: LevelMap) -> LevelMapBody:
    """A level map, in whole decibels."""
    levels: list[list[int]] = found.levels.round().astype(int).tolist()
    return LevelMapBody(levels=levels, low=found.low, high=found.high, floor=FLOOR, share=found.share)


def needles_body(found: needles.Needles) -> NeedlesBody:
    """What needles show, to a tenth of a decibel."""
    names = ("momentary", "short", "needle", "peak", "true_peak")
    values = {name: getattr(found, name).round(1).tolist() for name in names}
    return NeedlesBody(step=needles.STEP_SECONDS, floor=needles.FLOOR, **values)


def running_bands_body(found: RunningBands, first: int) -> RunningBandsBody:
    """Running spectra, to a tenth of a decibel."""
    return RunningBandsBody(
        step=needles.STEP_SECONDS, first=first, floor=needles.FLOOR, frequencies=found.frequencies.round(1).tolist(),
        levels=found.levels.round(1).tolist(),
    )  # fmt: skip
