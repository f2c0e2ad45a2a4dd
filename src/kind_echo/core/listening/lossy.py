"""What lossy encoding does to peaks: measured on the encoder itself, which is passed in."""

import math
from dataclasses import replace
from typing import Protocol

import numpy as np

from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import ArraySource, Samples, Source, read_padded
from kind_echo.core.audio.transforms import hann
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.levels.analysis import measure
from kind_echo.core.levels.integrity import NOT_FINITE
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import SILENCE, Curve, Reading, Reason, for_channels, refuse, silent
from kind_echo.core.tones.lines import steady_part


class Encoder(Protocol):
    """An encoder and its decoder."""

    @property
    def rate(self) -> int:
        """At which it works; files of another rate are resampled for it."""
        ...

    def round_trip(self, samples: Samples) -> Samples:
        """Encode and decode samples, shape (frames, channels)."""
        ...


PEAKS = ("lossy_sample_peak", "lossy_true_peak", "lossy_peak_rise", "lossy_overs")
WHOLE = ("lossy_headroom", "lossy_edge")
MOST_SECONDS = 900
_STEP_DB = 0.1  # dB of the search for the headroom
_MOST_HEADROOM_DB = 24.0
_MOST_TRIES = 4
_DROP_DB = 30.0  # dB by which the spectrum falls at a wall that the original does not have
_DRIVEN_DB = 40.0  # dB below the middle of the original's spectrum, down to which a wall can be seen
_EDGE_BANDS_HZ = 100.0  # Hz


def measure_lossy(source: Source, encoder: Encoder) -> tuple[list[Reading], dict[str, Curve]]:
    """All lossy measures, those of peaks for each channel too, and the spectra of original and decoded audio.

    Encoder delay is taken off first: the decoded audio is aligned with the original by correlation. What a decoder
    yields
    stays at the encoder's rate; the rise of the peak is that over the file as it was given.

    Raises:
        BadParameter: the file is longer than 15 minutes.
    """
    if source.frames > MOST_SECONDS * source.rate:
        raise BadParameter("FILE", f"{source.frames / source.rate:.0f} s", f"at most {MOST_SECONDS} s long")
    given = source.read(0, source.frames)
    unfit: tuple[tuple[bool, str, Reason], ...] = (
        (not np.isfinite(given).all(), NOT_FINITE, "not finite"), (not given.any(), SILENCE, "silence"),
    )  # fmt: skip
    for holds, why, reason in unfit:
        if holds:
            whole = [Reading(key, "all", None, why, reason=reason) for key in WHOLE]
            return refuse(PEAKS, source.channels, why, reason) + whole, {}
    samples = resample(given, source.rate, encoder.rate)
    decoded, delay = _lined_up(samples, encoder.round_trip(samples), encoder.rate)
    notes = [f"resampled to {encoder.rate} Hz for the encoder"] if encoder.rate != source.rate else []
    notes += [f"{delay} samples of encoder delay taken off"] if delay else []
    edge, curves = _edge(samples, decoded, encoder.rate)
    overs = (np.abs(decoded) > 1.0).sum(axis=0)
    readings = _peaks(given, ArraySource(decoded, encoder.rate), "; ".join(notes))
    readings += for_channels("lossy_overs", [float(count) for count in overs], float(overs.sum()))
    return [*readings, _headroom(samples, float(np.abs(decoded).max()), encoder), edge], curves


def decoded_copy(samples: Samples, rate: int, encoder: Encoder) -> Samples:
    """What is left of samples, shape (frames, channels), after encoding and decoding: as long, as early, at their rate.

    Encoder delay is taken off by correlation, to the sample of the encoder's rate.
    """
    at_its_rate = resample(samples, rate, encoder.rate)
    decoded, _ = _lined_up(at_its_rate, encoder.round_trip(at_its_rate), encoder.rate)
    back = resample(decoded, encoder.rate, rate)
    out = np.zeros_like(samples)
    out[: len(back)] = back[: len(samples)]
    return out


def _peaks(given: Samples, decoded: Source, note: str) -> list[Reading]:
    found = measure(decoded)
    names = ["all", *(str(c + 1) for c in range(decoded.channels))]
    before = [np.abs(given).max(), *np.abs(given).max(axis=0)]
    after, true = ({r.channel: r for r in found if r.measure == key} for key in ("sample_peak", "true_peak"))
    rises = [_rise(name, peak, after[name].value) for name, peak in zip(names, before, strict=True)]
    peaks = [replace(after[name], measure="lossy_sample_peak").noted(note) for name in names]
    return [*peaks, *(replace(true[name], measure="lossy_true_peak") for name in names), *rises]


def _rise(name: str, before: float, after: float | None) -> Reading:
    if after is None or before <= 0.0:
        return silent("lossy_peak_rise", name)
    return Reading("lossy_peak_rise", name, after - 20 * math.log10(before))


def _lined_up(samples: Samples, decoded: Samples, rate: int) -> tuple[Samples, int]:
    b = ArraySource(decoded, rate)
    delay, _ = find_delays(ArraySource(samples, rate), b)
    shift = round(delay.samples) if delay.samples is not None else 0
    return read_padded(b, shift, shift + len(samples)), shift


def _headroom(samples: Samples, peak: float, encoder: Encoder) -> Reading:
    """Least attenuation, in steps of 0.1 dB, that was seen to leave nothing clipped.

    What an encoder makes of peaks nearly follows the level: each level to be tried is told by how far the peak of the
    one before was off. Encoding takes long, so four are tried; the uncertainty is how far below lies the greatest
    attenuation that was seen to clip.
    """
    if peak <= 1.0:
        return Reading("lossy_headroom", "all", 0.0)
    clips, clean, trying = 0, None, max(1, _steps(peak))
    for _ in range(_MOST_TRIES):
        if trying * _STEP_DB > _MOST_HEADROOM_DB:
            break
        peak = float(np.abs(encoder.round_trip(samples * 10 ** (-trying * _STEP_DB / 20))).max())
        if peak > 1.0:
            clips = max(clips, trying)
            further = trying + max(1, _steps(peak))
            trying = further if clean is None else min(further, clean - 1)
        else:
            clean = trying if clean is None else min(clean, trying)
            trying = max(clips + 1, trying + min(-1, _steps(peak) - 1))
        if clean is not None and clean - clips <= 1:
            break
    if clean is None:
        return Reading("lossy_headroom", "all", None, f"it still clips {clips * _STEP_DB:.1f} dB down")
    beyond = round((clean - clips - 1) * _STEP_DB, 1)
    return Reading(
        "lossy_headroom", "all", round(clean * _STEP_DB, 1), "found by encoding at that level", beyond or None
    )


def _steps(peak: float) -> int:
    """By how many steps a peak lies over full scale; negative for one under it."""
    return math.ceil(20 * math.log10(max(peak, 1e-9)) / _STEP_DB)


def _edge(samples: Samples, decoded: Samples, rate: int) -> tuple[Reading, dict[str, Curve]]:
    """Where the decoded spectrum falls 30 dB below the original's and stays there."""
    start, stop = steady_part(ArraySource(samples, rate))
    size = min(1 << 13, 1 << int(np.log2(max(64, stop - start))))
    original, after = (_spectrum(side[start:stop], size) for side in (samples, decoded))
    frequencies = np.arange(len(original)) * rate / size
    width = max(1, round(_EDGE_BANDS_HZ * size / rate))
    box = np.ones(width) / width
    levels = [10 * np.log10(np.maximum(np.convolve(p, box, "same"), 1e-20)) for p in (original, after)]
    curves = {
        name: Curve("Hz", "dB", frequencies[1:].tolist(), level[1:].tolist())
        for name, level in zip(("original_spectrum", "decoded_spectrum"), levels, strict=True)
    }
    treble = frequencies > 1000
    # Where the original itself ends, both are as low, and nothing can be told.
    driven = treble & (levels[0] > np.median(levels[0][treble]) - _DRIVEN_DB)
    if driven.sum() < 4 or frequencies[driven].max() < 0.3 * rate:
        return Reading("lossy_edge", "all", None, "the original has too little at high frequencies to tell"), curves
    lost = levels[0] - levels[1]
    kept = np.flatnonzero(driven & (lost < 10))
    if len(kept) == 0:
        return Reading("lossy_edge", "all", None, "nothing of the original is left"), curves
    last = int(kept[-1])
    beyond = driven & (np.arange(len(lost)) > last + 2 * width)
    if beyond.sum() < width or np.median(lost[beyond]) < _DROP_DB:
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
