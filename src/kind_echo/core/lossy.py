"""What lossy encoding does to peaks: measured on the encoder itself, which is passed in."""

import math
from collections.abc import Callable

import numpy as np

from kind_echo.core.analysis import measure
from kind_echo.core.delay import find_delays
from kind_echo.core.errors import BadParameter
from kind_echo.core.lines import steady_part
from kind_echo.core.readings import Curve, Reading, value_of
from kind_echo.core.source import ArraySource, Samples, Source, read_padded
from kind_echo.core.transforms import hann

RoundTrip = Callable[[Samples], Samples]
"""Encodes and decodes samples, shape (frames, channels)."""

MEASURES = (
    "lossy_sample_peak", "lossy_true_peak", "lossy_peak_rise", "lossy_overs", "lossy_headroom", "lossy_edge",
)  # fmt: skip
MOST_SECONDS = 900
_STEP = 0.1  # dB of the search for the headroom
_MOST_HEADROOM = 24.0
_DROP = 30.0  # dB by which the spectrum falls at a wall that the original does not have
_EDGE_BANDS = 100.0  # Hz


def measure_lossy(source: Source, round_trip: RoundTrip) -> tuple[list[Reading], dict[str, Curve]]:
    """All lossy measures over all channels, and the spectra of original and decoded audio.

    Encoder delay is taken off first: the decoded audio is laid over the original by correlation.

    Raises:
        BadParameter: the file is longer than 15 minutes.
    """
    if source.frames > MOST_SECONDS * source.rate:
        raise BadParameter("FILE", f"{source.frames / source.rate:.0f} s", f"at most {MOST_SECONDS} s long")
    samples = source.read(0, source.frames)
    if not np.isfinite(samples).all():
        return [Reading(key, "all", None, "the file has NaN or infinite samples") for key in MEASURES], {}
    if not samples.any():
        return [Reading(key, "all", None, "digital silence") for key in MEASURES], {}
    decoded, delay = _lined_up(source, samples, round_trip(samples))
    found = measure(ArraySource(decoded, source.rate))
    original = 20 * math.log10(float(np.abs(samples).max()))
    peak, true_peak = value_of(found, "sample_peak"), value_of(found, "true_peak")
    note = f"{delay} samples of encoder delay taken off" if delay else None
    silent = None if peak is not None else "the decoded audio is silent"
    overs = int((np.abs(decoded) > 1.0).sum())
    edge, curves = _edge(samples, decoded, source.rate)
    readings = [
        Reading("lossy_sample_peak", "all", peak, silent).noted(note),
        Reading("lossy_true_peak", "all", true_peak, silent),
        Reading("lossy_peak_rise", "all", None if peak is None else peak - original, silent),
        Reading("lossy_overs", "all", float(overs)),
        _headroom(samples, overs, round_trip),
        edge,
    ]
    return readings, curves


def _lined_up(source: Source, samples: Samples, decoded: Samples) -> tuple[Samples, int]:
    a, b = ArraySource(samples, source.rate), ArraySource(decoded, source.rate)
    delay, _ = find_delays(a, b)
    shift = round(delay.samples) if delay.samples is not None else 0
    return read_padded(b, shift, shift + len(samples)), shift


def _headroom(samples: Samples, overs: int, round_trip: RoundTrip) -> Reading:
    """Least attenuation, in steps of 0.1 dB, at which nothing clips and at which nothing does 0.1 dB further down."""
    if overs == 0:
        return Reading("lossy_headroom", "all", 0.0)

    def clips(steps: int) -> bool:
        return bool((np.abs(round_trip(samples * 10 ** (-steps * _STEP / 20))) > 1.0).any())

    low, high = 0, 8
    while clips(high):
        low, high = high, 2 * high
        if high * _STEP > _MOST_HEADROOM:
            return Reading("lossy_headroom", "all", None, f"it still clips {_MOST_HEADROOM:g} dB down")
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if clips(middle) else (low, middle)
    return Reading("lossy_headroom", "all", round(high * _STEP, 1), "found by encoding at that level")


def _edge(samples: Samples, decoded: Samples, rate: int) -> tuple[Reading, dict[str, Curve]]:
    """Where the decoded spectrum falls 30 dB below the original's and stays there."""
    start, stop = steady_part(ArraySource(samples, rate))
    size = min(1 << 13, 1 << int(np.log2(max(64, stop - start))))
    original, after = (_spectrum(side[start:stop], size) for side in (samples, decoded))
    frequencies = np.arange(len(original)) * rate / size
    width = max(1, round(_EDGE_BANDS * size / rate))
    box = np.ones(width) / width
    levels = [10 * np.log10(np.maximum(np.convolve(p, box, "same"), 1e-20)) for p in (original, after)]
    curves = {
        name: Curve("Hz", "dB", frequencies[1:].tolist(), level[1:].tolist())
        for name, level in zip(("original_spectrum", "decoded_spectrum"), levels, strict=True)
    }
    driven = (frequencies > 1000) & (levels[0] > levels[0].max() - 90)
    if driven.sum() < 4 or frequencies[driven].max() < 0.3 * rate:
        return Reading("lossy_edge", "all", None, "the original has too little at high frequencies to tell"), curves
    lost = levels[0] - levels[1]
    kept = np.flatnonzero(driven & (lost < 10))
    if len(kept) == 0:
        return Reading("lossy_edge", "all", None, "nothing of the original is left"), curves
    last = int(kept[-1])
    beyond = driven & (np.arange(len(lost)) > last + 2 * width)
    if beyond.sum() < width or np.median(lost[beyond]) < _DROP:
        return Reading("lossy_edge", "all", None, "the decoded spectrum has no wall"), curves
    return Reading("lossy_edge", "all", float(frequencies[last])), curves


def _spectrum(samples: Samples, size: int) -> Samples:
    window = hann(size)[:, None]
    count = max(1, min(400, len(samples) // size))
    power = np.zeros(size // 2 + 1)
    for start in np.linspace(0, max(0, len(samples) - size), count).astype(int):
        block = samples[start : start + size]
        padded = np.zeros((size, samples.shape[1]))
        padded[: len(block)] = block
        power += (np.abs(np.fft.rfft(padded * window, axis=0)) ** 2).mean(axis=1)
    return np.asarray(power / count)
