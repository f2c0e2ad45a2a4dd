"""What is left once all that can be undone is: noise of its own, what a codec or a word length left, or neither."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.transforms import hann
from kind_echo.core.causes.excerpts import Excerpt

Floats = NDArray[np.float64]

Leftover = Literal["noise", "lossy", "follows", "cannot tell"]

_WINDOW_FRAMES, _HOP_FRAMES = 1024, 512
_BAND_BINS = 4  # bins of a band
_LEAST_FRAMES = 24
# Mean rank correlation in time of what is left with the signal, in narrow bands, under which it is apart
_APART_RANK_CORRELATION = 0.12
_FOLLOWING_RANK_CORRELATION = 0.25
_CARRYING_POWER_SHARE = 1e-7  # of the greatest band, under which a band of the signal tells nothing
_HOLE_POWER_SHARE = 10 ** (-20 / 10)  # of the signal's power in a place of time and frequency that the render lacks
_HOLES_SHARE = 0.08  # share of such places in the upper part of the band
_PHASE_FRAMES = 3  # frames in which phases are compared
_APART_COHERENCE = 0.3  # coherence with the signal, under which what is left has phases of its own
_IN_PHASE_COHERENCE = 0.5
_ALIKE_RANK_CORRELATION = 0.85  # rank correlation of levels, over which what is left lies under the signal everywhere
_CODEC_MIDDLE_DB = (-25.0, -2.0)  # dB under the signal, between which the middle of what a codec leaves lies
_CODEC_SPREAD_DB = (10.0, 35.0)  # dB between its least and its greatest tenth
_GRID_BITS = range(6, 25)


@dataclass(frozen=True)
class Judged:
    """What was found of what is left.

    Attributes:
        follows: mean rank correlation in time with the signal, in narrow bands; None where nothing tells.
        holes: share of places of time and frequency, in the upper part of the band, that the render lacks.
        edge: Hz, over which the render has next to nothing and the reference has; None where there is no such edge.
    """

    kind: Leftover
    follows: float | None
    holes: float
    edge: float | None


def judge_leftover(excerpt: Excerpt, error: Floats) -> Judged:
    """Whether what is left follows the signal in time, and whether it has the marks of a codec."""
    x = excerpt.inner
    if x.shape[1] < _WINDOW_FRAMES + _LEAST_FRAMES * _HOP_FRAMES // 4:
        return Judged("cannot tell", None, 0.0, None)
    theirs, left, came = (_bands(side) for side in (x, error * excerpt.weight, excerpt.y))
    usual = theirs.mean(axis=0)
    carries = usual > _CARRYING_POWER_SHARE * usual.max(initial=0.0)
    follows = _following(theirs[:, carries], left[:, carries])
    holes, edge = _holes(theirs, came, carries, excerpt.rate)
    if follows is None:
        return Judged("cannot tell", None, holes, edge)
    if abs(follows) < _APART_RANK_CORRELATION:
        return Judged("noise", follows, holes, edge)
    coherent, alike, shares = _under(x, error * excerpt.weight)
    masked = (
        coherent < _APART_COHERENCE
        and alike > _ALIKE_RANK_CORRELATION
        and _CODEC_MIDDLE_DB[0] < shares[1] < _CODEC_MIDDLE_DB[1]
        and shares[2] < 0.0
    )
    varied = _CODEC_SPREAD_DB[0] < shares[2] - shares[0] < _CODEC_SPREAD_DB[1]
    if follows > _FOLLOWING_RANK_CORRELATION and (
        (holes > _HOLES_SHARE and coherent < _IN_PHASE_COHERENCE) or (masked and varied)
    ):
        return Judged("lossy", follows, holes, edge)
    return Judged("follows" if follows > _FOLLOWING_RANK_CORRELATION else "cannot tell", follows, holes, edge)


def _under(signal: Floats, left: Floats) -> tuple[float, float, Floats]:
    """How what is left lies under the signal in time and frequency, as what a codec leaves does.

    Returns:
        Its coherence with the signal over short times and narrow bands, which is high for all that bends, moves or
        filters the signal; rank correlation of the two levels over all places; and the 10th, 50th and 90th percentile
        of its level under that of the signal, in dB.
    """
    theirs, mine = (_spectra(side) for side in (signal, left))
    own, other, cross = (_boxes(one) for one in (np.abs(theirs) ** 2, np.abs(mine) ** 2, mine * np.conj(theirs)))
    total = float(other.real.sum())
    if total <= 0.0 or len(own) == 0:
        return 1.0, 0.0, np.zeros(3)
    scale = np.maximum(own.real * other.real, 1e-300)
    coherent = float((np.abs(cross) ** 2 / scale * other.real).sum()) / total
    usual = own.real.mean(axis=0)
    carries = usual > 10 * _CARRYING_POWER_SHARE * usual.max(initial=0.0)
    a, b = (10 * np.log10(one.real[:, carries].ravel() + 1e-30) for one in (own, other))
    ranks = [np.argsort(np.argsort(one)).astype(float) for one in (a, b)]
    alike = float(np.corrcoef(ranks[0], ranks[1])[0, 1]) if len(a) > 8 else 0.0
    return coherent, alike, np.asarray(np.percentile(b - a, [10, 50, 90])) if len(a) else np.zeros(3)


def _boxes(values: NDArray[np.complex128] | Floats) -> NDArray[np.complex128]:
    """Sums over boxes of three frames and a narrow band."""
    frames, bands = len(values) // _PHASE_FRAMES, values.shape[1] // _BAND_BINS
    cut = values[: frames * _PHASE_FRAMES, : bands * _BAND_BINS]
    return np.asarray(cut.reshape(frames, _PHASE_FRAMES, bands, _BAND_BINS).sum(axis=(1, 3)), dtype=np.complex128)


def word_length(samples: Floats) -> int | None:
    """The least number of bits whose grid holds all samples; None for samples on no grid of 24 bits or fewer."""
    for bits in _GRID_BITS:
        scaled = samples * 2.0 ** (bits - 1)
        if float(np.abs(scaled - np.round(scaled)).max(initial=0.0)) < 1e-9 * 2.0 ** (bits - 1):
            return bits
    return None


def _bands(samples: Floats) -> Floats:
    """Power in narrow bands over time, all stretches one after the other; shape (frames, bands)."""
    power = np.abs(_spectra(samples)) ** 2
    bands = (power.shape[1] - 1) // _BAND_BINS
    return np.asarray(power[:, 1 : 1 + bands * _BAND_BINS].reshape(len(power), bands, _BAND_BINS).sum(axis=2))


def _spectra(samples: Floats) -> NDArray[np.complex128]:
    """Spectra over time, all stretches one after the other; shape (frames, bins)."""
    window = hann(_WINDOW_FRAMES)
    found = []
    for row in samples:
        starts = np.arange(0, len(row) - _WINDOW_FRAMES + 1, _HOP_FRAMES)
        found.append(fft.rfft(np.lib.stride_tricks.sliding_window_view(row, _WINDOW_FRAMES)[starts] * window))
    return np.concatenate(found)


def _following(signal: Floats, left: Floats) -> float | None:
    """Mean over bands of the rank correlation in time; weighted by what is left in each."""
    if signal.shape[0] < _LEAST_FRAMES or signal.shape[1] == 0:
        return None
    weight = left.mean(axis=0)
    chosen = weight > 1e-4 * weight.max(initial=0.0)
    if not chosen.any() or weight.max(initial=0.0) <= 0.0:
        return None
    ranks = [np.argsort(np.argsort(side[:, chosen], axis=0), axis=0).astype(float) for side in (signal, left)]
    a, b = (r - r.mean(axis=0) for r in ranks)
    scale = np.sqrt((a**2).sum(axis=0) * (b**2).sum(axis=0))
    correlation = np.divide((a * b).sum(axis=0), scale, out=np.zeros(scale.shape), where=scale > 0)
    return float(np.average(correlation, weights=np.sqrt(weight[chosen])))


def _holes(signal: Floats, came: Floats, carries: NDArray[np.bool_], rate: int) -> tuple[float, float | None]:
    """Share of missing places in the upper half of the carrying band, and where the render ends before the signal."""
    places = np.flatnonzero(carries)
    if len(places) < 8:
        return 0.0, None
    upper = places[len(places) // 2 :]
    heard = signal[:, upper] > 1e-3 * signal[:, upper].mean(axis=0)
    lost = heard & (came[:, upper] < _HOLE_POWER_SHARE * signal[:, upper])
    share = float(lost.sum()) / max(1, int(heard.sum()))
    kept = came.mean(axis=0) > _HOLE_POWER_SHARE * signal.mean(axis=0)
    last = int(np.flatnonzero(kept & carries).max(initial=0))
    ends = bool((carries[last + 1 :]).sum() >= 4)
    return share, float((last + 1) * _BAND_BINS * rate / _WINDOW_FRAMES) if ends else None
