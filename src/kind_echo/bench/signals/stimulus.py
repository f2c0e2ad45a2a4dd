"""Stimuli: from what is kept of a signal to samples, and the families of measures of its renders."""

from dataclasses import replace
from threading import Lock

from cachetools import LRUCache, cached
from sqlalchemy.orm import Session

from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import Samples
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measure import Family
from kind_echo.core.signals import OwnFile, SignalRequest, Stimulus, synthesise
from kind_echo.core.signals.request import Method
from kind_echo.database.blobs import BlobSource, find_content

_CACHED_BYTES = 128 << 20


def make_stimulus(session: Session, stimulus: Stimulus, channels: int, rate: int) -> Samples:
    """The samples of a signal under a condition, shape (frames, channels); not to be written to.

    Raises:
        BadParameter: it cannot be had at that rate or with that number of channels.
        ContentNotFound: an own file is not there.
    """
    if isinstance(stimulus, OwnFile):
        return _own_file(session, stimulus.sha256, channels, rate)
    return _synthesised(replace(stimulus, channels=channels), rate)


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


def families_of(stimulus: Stimulus, takes: int, *, lossy: bool, law: bool = False) -> list[Family]:
    """The families of measures that a render of a signal is measured by; `law`: a law is expected of the effect."""
    found: list[Family] = ["levels", "loudness", "integrity", "cost"]
    if stimulus.method is not None:
        found += _FAMILIES[stimulus.method]
    if law and stimulus.method != "transfer":  # the curve of a staircase is laid beside the law step by step
        found.append("law")
    if takes > 1:
        found.append("takes")
    if lossy:
        found.append("lossy")
    return found
