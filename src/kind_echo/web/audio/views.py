"""Level maps as they are sent."""

from kind_echo.core.audio.level_map import FLOOR, LevelMap
from kind_echo.web.http.schemas import LevelMapBody


def level_map_body(found: LevelMap) -> LevelMapBody:
    """A level map, in whole decibels."""
    levels: list[list[int]] = found.levels.round().astype(int).tolist()
    return LevelMapBody(levels=levels, low=found.low, high=found.high, floor=FLOOR, share=found.share)
