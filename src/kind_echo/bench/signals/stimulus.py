"""Stimuli: from what is kept of a signal to samples, and what a render of it is measured for beside levels."""

from threading import Lock
from typing import Any

from cachetools import LRUCache, cached
from sqlalchemy.orm import Session

from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import Samples, Source
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measure import Family
from kind_echo.core.registry.readings import Curve, Reading
from kind_echo.core.signals import OWN_FILE, SignalRequest, all_kinds, in_one_channel, make_request, synthesise
from kind_echo.core.signals.request import Method
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.latency import LatencyOptions, measure_latency
from kind_echo.core.systems.law import measure_law
from kind_echo.core.systems.response import measure_response
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve
from kind_echo.core.tones.alias_sweep import measure_alias_sweep
from kind_echo.core.tones.imd import measure_imd
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from kind_echo.database.blobs import BlobSource, find_content

_CACHED_BYTES = 128 << 20
Measured = tuple[list[Reading], dict[str, Curve]]


def make_stimulus(session: Session, request: dict[str, Any], channels: int, rate: int) -> Samples:
    """The samples of a signal under a condition, shape (frames, channels); not to be written to.

    Raises:
        BadParameter: it cannot be had at that rate or with that number of channels.
        ContentNotFound: an own file is not there.
    """
    if request["kind"] == OWN_FILE:
        return _own_file(session, str(request["sha256"]), channels, rate)
    return _synthesised(make_request(**{**request, "channels": channels}), rate)


@cached(LRUCache(_CACHED_BYTES, getsizeof=lambda samples: samples.nbytes), lock=Lock())
def _synthesised(request: SignalRequest, rate: int) -> Samples:
    """The cells of a run ask for the same signals again and again."""
    samples = synthesise(request, rate)
    samples.flags.writeable = False
    return samples


def _own_file(session: Session, sha256: str, channels: int, rate: int) -> Samples:
    source = BlobSource(session, find_content(session, sha256))
    samples = resample(source.read(0, source.frames), source.rate, rate)
    if source.channels == 1:
        return samples.repeat(channels, axis=1)
    if source.channels != channels:
        raise BadParameter("channels", channels, f"{source.channels}, as the file has")
    return samples


_FAMILIES: dict[Method, tuple[Family, ...]] = {
    "tone": ("tone", "aliases"), "imd": ("imd",), "alias_sweep": ("tone", "aliases"),
    "response": ("response", "latency"), "latency": ("latency",), "transfer": ("transfer",), "dynamics": ("dynamics",),
}  # fmt: skip
"""What `measure_by_signal` measures by each method."""


def families_of(request: dict[str, Any], takes: int, *, lossy: bool, law: bool = False) -> list[Family]:
    """The families of measures that a render of a signal is measured by; `law`: a law is expected of the effect."""
    found: list[Family] = ["levels", "loudness", "integrity", "cost"]
    method = None if request["kind"] == OWN_FILE else all_kinds()[request["kind"]].method
    if method is not None:
        found += _FAMILIES[method]
    if law and method != "transfer":  # the curve of a staircase is laid beside the law step by step
        found.append("law")
    if takes > 1:
        found.append("takes")
    if lossy:
        found.append("lossy")
    return found


def measure_by_signal(
    request: dict[str, Any],
    stimulus: Source,
    render: Source,
    *,
    claimed: float | None = None,
    law: ExpectedCurve | None = None,
) -> Measured:
    """The measures and curves that fit a kind of signal; of programme what a law expects alone, and none without one.

    Args:
        request: as the signal was asked for.
        claimed: frames of latency that the render should still have; None where nothing tells.
        law: what is expected of a compressor.
    """
    asked = None if request["kind"] == OWN_FILE else in_one_channel(request)
    readings, curves = ([], {}) if asked is None else _by_method(asked, stimulus, render, claimed, law)
    if law is not None and (asked is None or asked.method != "transfer"):
        readings = [*readings, *measure_law(stimulus, render, law, None if asked is None else asked.one_sine)]
    return readings, curves


def _by_method(
    asked: SignalRequest, stimulus: Source, render: Source, claimed: float | None, law: ExpectedCurve | None
) -> Measured:
    try:
        match asked.method:
            case "tone" if asked.one_sine is not None:
                return measure_tone(render, ToneOptions(asked.one_sine))
            case "imd" if asked.two_sines is not None:
                return measure_imd(render, asked.two_sines)
            case "alias_sweep":
                return measure_alias_sweep(stimulus, render)
            case "response":
                return measure_response(stimulus, render)
            case "latency":
                return measure_latency(stimulus, render, LatencyOptions(claimed))
            case "transfer":
                return measure_curve(stimulus, render, law)
            case "dynamics":
                return measure_dynamics(stimulus, render)
    except BadParameter:
        # A plan may ask for a stimulus that a rate does not carry; what it cannot tell is left out, and the rest stays.
        return [], {}
    return [], {}
