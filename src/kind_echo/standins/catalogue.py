"""All stand-in effects, by name."""

from kind_echo.standins.effects import Effect, NoSuchEffect, StandIn, Values
from kind_echo.standins.fogbank import FOGBANK
from kind_echo.standins.holdfast import HOLDFAST
from kind_echo.standins.plumb import PLUMB
from kind_echo.standins.rushlight import RUSHLIGHT
from kind_echo.standins.sedge import SEDGE
from kind_echo.standins.skerry import SKERRY
from kind_echo.standins.towpath import TOWPATH
from kind_echo.standins.weir import WEIR

STAND_INS: dict[str, StandIn] = {
    stand_in.name: stand_in for stand_in in (SKERRY, TOWPATH, HOLDFAST, WEIR, RUSHLIGHT, SEDGE, PLUMB, FOGBANK)
}


def load_effect(name: str, version: str, values: Values, rate: int, channels: int) -> Effect:
    """A build of a stand-in, set and ready to process.

    Raises:
        NoSuchEffect, NoSuchBuild: there is none of that name or version.
        BadParameter: a value cannot be set.
    """
    if name not in STAND_INS:
        raise NoSuchEffect(name)
    return STAND_INS[name].load(version, values, rate, channels)
