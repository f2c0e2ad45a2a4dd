"""Stimuli: from what is kept of a signal to samples, and what a render of it is measured for beside levels."""

from functools import lru_cache
from typing import Any

from sqlalchemy.orm import Session

from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import Samples, Source
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measure import Family
from kind_echo.core.registry.readings import Curve, Reading
from kind_echo.core.signals import SignalRequest, played_frequency, synthesise
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.latency import LatencyOptions, measure_latency
from kind_echo.core.systems.response import measure_response
from kind_echo.core.systems.transfer import measure_curve
from kind_echo.core.tones.alias_sweep import measure_alias_sweep
from kind_echo.core.tones.imd import measure_imd
from kind_echo.core.tones.tone import ToneOptions, measure_tone
from kind_echo.database.blobs import BlobSource, find_content

Measured = tuple[list[Reading], dict[str, Curve]]

OWN_FILE = "file"
"""The kind of a signal that is a person's own file, kept by the digest of its content."""


def make_stimulus(session: Session, request: dict[str, Any], channels: int, rate: int) -> Samples:
    """The samples of a signal under a condition, shape (frames, channels); not to be written to.

    Raises:
        BadParameter: it cannot be had at that rate or with that number of channels.
        ContentNotFound: an own file is not there.
    """
    if request["kind"] == OWN_FILE:
        return _own_file(session, str(request["sha256"]), channels, rate)
    return _synthesised(SignalRequest(**{**request, "channels": channels}), rate)


@lru_cache(maxsize=32)
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


_FAMILIES: dict[str, tuple[Family, ...]] = {
    "tone": ("tone", "aliases"), "pair": ("imd",), "steps": ("tone", "aliases"), "sweep": ("response", "latency"),
    "noise": ("response", "latency"), "impulse": ("response", "latency"), "sequence": ("response", "latency"),
    "clicks": ("latency",), "staircase": ("transfer",), "burst": ("dynamics",),
}  # fmt: skip
"""What `measure_by_signal` measures of a kind of signal."""


def families_of(request: dict[str, Any], takes: int, *, lossy: bool) -> list[Family]:
    """The families of measures that a render of a signal is measured by."""
    found: list[Family] = ["levels", "loudness", "integrity", "cost", *_FAMILIES.get(request["kind"], ())]
    if takes > 1:
        found.append("takes")
    if lossy:
        found.append("lossy")
    return found


def measure_by_signal(
    request: dict[str, Any], stimulus: Source, render: Source, *, claimed: float | None = None
) -> Measured:
    """The measures and curves that fit a kind of signal; none for programme, which is compared and not measured so.

    Args:
        request: as the signal was asked for.
        claimed: frames of latency that the render should still have; None where nothing tells.
    """
    kind = request["kind"]
    try:
        if kind == "tone":
            return measure_tone(render, ToneOptions(played_frequency(SignalRequest(**request))))
        if kind == "pair":
            return measure_imd(render, (float(request["frequency"]), float(request["second"]))), {}
        if kind == "steps":
            return measure_alias_sweep(stimulus, render)
        if kind in ("sweep", "noise", "impulse", "sequence"):
            return measure_response(stimulus, render)
        if kind == "clicks":
            return measure_latency(stimulus, render, LatencyOptions(claimed))
        if kind == "staircase":
            return measure_curve(stimulus, render)
        if kind == "burst":
            return measure_dynamics(stimulus, render)
    except BadParameter:
        # A plan may ask for a stimulus that a rate does not carry; what it cannot tell is left out, and the rest stays.
        return [], {}
    return [], {}
