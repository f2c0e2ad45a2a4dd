"""Whether two sounds without a delay are one sound all the same: with its phases turned, or its frequencies moved."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.smoothing import analytic
from kind_echo.core.audio.source import Source, read_padded
from kind_echo.core.audio.transforms import fast_length, hann
from kind_echo.core.delays.phases import read_blocks

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class JudgingSameness:
    """When two sounds are taken for one: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        segments, segment_samples: that tell where the one lies in the other.
        reach_seconds: to either side.
        least_envelope: of the correlation, its phase aside, from which a segment tells.
        least_telling: segments; together: share of them whose places lie within near_samples of each other.
        coherent: share of the power that a filter could explain.
        at_rest: of that share, that it has with no delay where there is none.
        block_samples: over which a moved frequency is told.
        turns_alike: of the phases of blocks, at which they turn with the time.
        whole_frames: from the middle, of which all frequencies are told to be moved; turns_whole: share of the power of
            both that turns at that one frequency then.
        more_than_at_rest: times what they agree where they do not turn.
        least_hertz: that frequencies move.
    """

    segments: int = 24
    segment_samples: int = 8192
    reach_seconds: float = 1.0
    least_envelope: float = 0.5
    least_telling: int = 3
    together: float = 0.6
    near_samples: int = 64
    coherent: float = 0.7
    at_rest: float = 0.9
    block_samples: int = 4096
    turns_alike: float = 0.8
    whole_frames: int = 1 << 18
    turns_whole: float = 0.8
    more_than_at_rest: float = 1.5
    least_hertz: float = 0.02


SAMENESS = JudgingSameness()


@dataclass(frozen=True)
class Sameness:
    """Where the one sound lies in the other, in samples; and by how many Hz its frequencies are moved."""

    lag: int
    hertz: float = 0.0


def find_sameness(reference: Source, render: Source) -> Sameness | None:
    """How two sounds are one; None where nothing says so."""
    lag = _place(reference, render)
    if lag is None:
        return None
    hertz = _moved(reference, render, lag)
    if hertz is not None:
        return Sameness(lag, hertz)
    here = _coherent(reference, render, lag)
    at_rest = _coherent(reference, render, 0)
    if max(here, at_rest) >= SAMENESS.coherent:
        return Sameness(0 if at_rest >= SAMENESS.at_rest * here else lag)
    return None


def shift_of_frequencies(reference: Source, render: Source, lag: int) -> float | None:
    """Hz by which all frequencies are moved, of a pair that is laid over each other; None where they are not.

    The analytic signals of the two then turn against each other at that one frequency.
    """
    lo, hi = max(0, -lag), min(reference.frames, render.frames - lag)
    size = min(hi - lo, SAMENESS.whole_frames)
    if size < SAMENESS.block_samples:
        return None
    lo += (hi - lo - size) // 2
    length = fast_length(size)
    x, y = (
        analytic(np.pad(read_padded(side, at, at + size), ((0, length - size), (0, 0))))
        for side, at in ((reference, lo), (render, lo + lag))
    )
    powers = float(np.square(np.abs(x)).sum()) * float(np.square(np.abs(y)).sum())
    turning = np.abs(fft.fft((np.conj(x) * y).sum(axis=1), 4 * length))
    best = int(turning.argmax())
    at_rest = SAMENESS.more_than_at_rest * float(turning[0])
    if powers <= 0.0 or turning[best] < max(SAMENESS.turns_whole * np.sqrt(powers), at_rest):
        return None
    found = float(fft.fftfreq(4 * length, 1 / reference.rate)[best])
    return found if abs(found) >= SAMENESS.least_hertz else None


def _place(reference: Source, render: Source) -> int | None:
    """The lag of most segments, by the envelope of their correlation, which does not hang on phases."""
    length = min(SAMENESS.segment_samples, render.frames // 4)
    reach = min(round(SAMENESS.reach_seconds * reference.rate), max(reference.frames, render.frames))
    if length < 256:
        return None
    found = []
    for start in np.linspace(0, render.frames - length, SAMENESS.segments).astype(int).tolist():
        y = np.diff(read_padded(render, start, start + length), axis=0)
        channel = int(np.square(y).sum(axis=0).argmax())
        y = y[:, channel] * hann(length - 1)
        x = np.diff(read_padded(reference, start - reach, start + length + reach)[:, channel])
        own, size = float(y @ y), fast_length(len(x))
        if own <= 0.0:
            continue
        cross = np.conj(fft.rfft(y, size)) * fft.rfft(x, size)
        whole = np.zeros(size, np.complex128)
        whole[: len(cross)] = 2 * cross
        lags = np.abs(fft.ifft(whole))[: 2 * reach + 1]
        energy = np.concatenate([[0.0], np.cumsum(x**2)])
        met = energy[len(y) : len(y) + 2 * reach + 1] - energy[: 2 * reach + 1]
        told = np.divide(lags, np.sqrt(own * np.maximum(met, 0.0)), out=np.zeros_like(lags), where=met > 1e-4 * own)
        best = int(told.argmax())
        if told[best] >= SAMENESS.least_envelope:
            found.append(reach - best)
    if len(found) < SAMENESS.least_telling:
        return None
    middle = round(float(np.median(found)))
    close = sum(abs(one - middle) <= SAMENESS.near_samples for one in found)
    return middle if close >= SAMENESS.together * len(found) else None


def _coherent(reference: Source, render: Source, lag: int) -> float:
    """The share of the power that a filter could explain, of the channel that coheres least."""
    within = max(0, -lag), min(reference.frames, render.frames - lag)
    if within[1] - within[0] < 256:
        return 0.0
    shares = []
    for blocks in read_blocks(reference, render, lag, within):
        if blocks.cross is not None:
            same, both = blocks.cross.coherent
            shares.append(same / both)
    return min(shares, default=0.0)


def _moved(reference: Source, render: Source, lag: int) -> float | None:
    """Hz by which all frequencies are moved, by how the phases of blocks turn with the time; None where they do not."""
    size = SAMENESS.block_samples
    lo, hi = max(0, -lag), min(reference.frames, render.frames - lag)
    starts = np.arange(lo, hi - size + 1, size // 4)[:2048]
    if len(starts) < 16:
        return None
    window, turns, powers = hann(size)[:, None], [], []
    for start in starts.tolist():
        x, y = (np.diff(read_padded(side, at, at + size + 1), axis=0) * window
                for side, at in ((reference, start), (render, start + lag)))  # fmt: skip
        # What meets at one time with frequencies moved by less than a bin: the phase of the two analytic signals.
        spectra = [fft.rfft(side, axis=0) for side in (x, y)]
        turns.append(complex((np.conj(spectra[0]) * spectra[1]).sum()))
        powers.append(float(np.sqrt((np.abs(spectra[0]) ** 2).sum() * (np.abs(spectra[1]) ** 2).sum())))
    values, total = np.array(turns), float(np.sum(powers))
    if total <= 0.0 or float(np.abs(values).sum()) < SAMENESS.least_envelope * total:
        return None
    times = starts / reference.rate
    step = size / 4 / reference.rate
    span = float(times[-1] - times[0])
    hertz = np.arange(-0.5 / step, 0.5 / step, 0.25 / span)
    sums = np.abs(np.exp(-2j * np.pi * np.outer(hertz, times)) @ values)
    best = int(sums.argmax())
    at_rest = SAMENESS.more_than_at_rest * abs(complex(values.sum()))
    if sums[best] < max(SAMENESS.turns_alike * float(np.abs(values).sum()), at_rest):
        return None
    near = hertz[best] + np.linspace(-0.25, 0.25, 51) / span
    sums = np.abs(np.exp(-2j * np.pi * np.outer(near, times)) @ values)
    found = float(near[int(sums.argmax())])
    return found if abs(found) >= SAMENESS.least_hertz else None
