"""The linear filter from a reference to its render: regularised least squares, judged where it was not fitted."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.transforms import fast_length, hann
from kind_echo.core.causes.excerpts import Excerpt, with_like_folds
from kind_echo.core.causes.loudest_line import line_share

Floats = NDArray[np.float64]

REACH = 1536
"""Frames of the reference, before or after, that the longest filter sees."""

_TAPS = ((64, 192), (384, 640), (512, 1536))  # taps before and after the main one: the shortest first
_RIDGE_SHARES = (1e-11, 1e-8, 1e-5)  # of the mean power
_FRAMES_PER_TAP = 3.0
_LONGER_LEAVES_SHARE = 0.8  # of the power that a longer filter must leave less than, to be worth its taps
_COHERENCE_FRAMES = 8192  # frames of a block: several times what a filter reaches
_SHORTEST_COHERENCE_FRAMES = 4096  # frames, in which a filter of a thousand taps still coheres
_FEWEST_BLOCKS = 8.0
_LONGER_COULD_PAY_SHARE = 0.05  # of what a filter leaves, under which no longer one could be worth its taps
_LIBRARY_PAYS_TAPS = 600  # taps, from which it pays to load a library of solvers
# Of the power in one line, whose level and phase the shortest filter changes as any longer one
_ONE_LINE_SHARE = 1.0 - 1e-4
_EVENT_FRAMES = 64  # frames that a sound takes which is one event
_SILENT_SHARE = 1e-12  # of its greatest power
_WELL_EXPLAINED_SHARE = 1e-4  # of the power of the target, under which no other ridge is tried


@dataclass(frozen=True)
class Filter:
    """A filter and what it leaves.

    Attributes:
        taps: of which number `before` meets the sample at the same time.
        error: of the render, over the frames of the excerpt, each part with the filter that was fitted on the others.
        left: mean square of the error.
        ridge: of the mean power, that it was regularised with.
    """

    taps: Floats
    before: int
    error: Floats
    left: float
    ridge: float

    def response(self, frequencies: Floats, rate: int) -> NDArray[np.complex128]:
        """The response at frequencies in Hz."""
        times = np.arange(len(self.taps)) - self.before
        return np.asarray(np.exp(-2j * np.pi / rate * np.outer(frequencies, times)) @ self.taps)


def fit_filter(
    excerpt: Excerpt,
    target: Floats | None = None,
    *,
    enough: float = 0.0,
    lengths: int = 3,
    like: Filter | None = None,
) -> Filter | None:
    """The filter from x to the target (y unless given), of the length that leaves least on parts it was not fitted on.

    Args:
        enough: mean square that need not be got under: then no longer filter is tried.
        lengths: how many of the lengths are tried, the shortest first.
        like: one that was found for nearly the same pair: its length, or the longest tried, and its ridge are taken.
    Returns:
        None for an excerpt that is too short for the shortest filter, or silent.
    """
    y = excerpt.y if target is None else target
    if _is_one_event(excerpt):
        return _response(excerpt, y)
    excerpt = with_like_folds(excerpt)
    best: Filter | None = None
    tried: Sequence[tuple[int, int]] = _TAPS[: 1 if line_share(excerpt) > _ONE_LINE_SHARE else lengths]
    if like is not None:
        tried = [one for one in tried if sum(one) + 1 >= len(like.taps)][:1] or tried[-1:]
    ridges = _RIDGE_SHARES if like is None else (like.ridge,)
    for before, after in tried:
        frames = excerpt.y.size
        before, after = min(before, excerpt.reach), min(after, excerpt.reach)
        if frames < 2 * _FRAMES_PER_TAP * (before + after + 1):
            break
        found = _fitted(excerpt, y, before, after, ridges)
        if found is None:
            break
        worth = best is None or found.left < _LONGER_LEAVES_SHARE * best.left
        if worth:
            best = found
        if (
            found.left <= enough
            or not worth
            or share_that_follows(excerpt, found.error, _SHORTEST_COHERENCE_FRAMES) < _LONGER_COULD_PAY_SHARE
        ):
            break
    return best


def share_that_follows(excerpt: Excerpt, error: Floats, least: int = _COHERENCE_FRAMES) -> float:
    """How much of the power of an error a filter of the reference could explain, by their coherence; 1 where unknown.

    Args:
        error: shape of y.
        least: frames of the blocks that a short excerpt may be cut into.
    Source:
        J. S. Bendat and A. G. Piersol, Random Data, chapter on single-input/single-output relationships.
    """
    size = _COHERENCE_FRAMES
    while size > least and _blocks_worth(error, size) < _FEWEST_BLOCKS:
        size //= 2
    count = _blocks_worth(error, size)
    if count < _FEWEST_BLOCKS or not (excerpt.weight > 0.0).all():
        return 1.0
    window, step = hann(size), size // 2
    x, e = (
        fft.rfft(np.lib.stride_tricks.sliding_window_view(side, size, axis=1)[:, ::step] * window)
        for side in (excerpt.inner, error)
    )
    own, other = (np.square(np.abs(side)).sum(axis=(0, 1)) for side in (x, e))
    found = np.square(np.abs((np.conj(x) * e).sum(axis=(0, 1)))) / np.maximum(own * other, 1e-300)
    # Chance alone has the coherence of one block in so many.
    follows = other * (found - 1 / count) / (1 - 1 / count)
    return float(follows.sum() / max(float(other.sum()), 1e-300))


def _blocks_worth(error: Floats, size: int) -> float:
    """How many blocks that stand apart tell as much as those that overlap by half."""
    return 0.66 * len(error) * max(0, int(error.shape[1] - size) // (size // 2) + 1)


def _is_one_event(excerpt: Excerpt) -> bool:
    """Whether all that the reference holds is one short sound, as an impulse."""
    power = np.square(excerpt.inner)
    there = np.flatnonzero(power.ravel() > _SILENT_SHARE * power.max(initial=0.0))
    return len(there) > 0 and int(there[-1] - there[0]) < _EVENT_FRAMES and power.size > 8 * _EVENT_FRAMES


def _response(excerpt: Excerpt, y: Floats) -> Filter | None:
    """The filter of one short sound. There is no other part to judge it on: it must leave next to nothing."""
    before, after = (min(taps, excerpt.reach) for taps in _TAPS[-1])
    gram, cross = _normal_equations(excerpt, y, np.ones(y.shape[1], bool), before, after)
    taps = _solve(gram, cross, _RIDGE_SHARES[0])
    if taps is None:
        return None
    error = y - filtered(excerpt, taps, before)
    left = excerpt.power(error)
    return (
        Filter(taps, before, error, left, _RIDGE_SHARES[0]) if left < _WELL_EXPLAINED_SHARE * excerpt.power(y) else None
    )


def _fitted(excerpt: Excerpt, y: Floats, before: int, after: int, ridges: Sequence[float]) -> Filter | None:
    fold = excerpt.fold
    normals = [_normal_equations(excerpt, y, fold == k, before, after) for k in (0, 1)]
    if min(float(gram[0, 0]) for gram, _ in normals) <= 0.0:
        return None
    best: Filter | None = None
    for ridge in ridges:
        solved = [_solve(gram, cross, ridge) for gram, cross in normals]
        if any(taps is None for taps in solved):
            continue
        errors = [y - filtered(excerpt, taps, before) for taps in solved if taps is not None]
        error = np.where(fold == 0, errors[1], errors[0])
        left = excerpt.power(error)
        if best is None or left < 0.98 * best.left:
            whole = 0.5 * (np.asarray(solved[0]) + np.asarray(solved[1]))
            best = Filter(whole, before, error, left, ridge)
        elif left > 1.02 * best.left:
            break
        if best.left < _WELL_EXPLAINED_SHARE * excerpt.power(y):
            break
    return best


def filtered(excerpt: Excerpt, taps: Floats, before: int, x: Floats | None = None) -> Floats:
    """What a filter makes of the reference (or of something of its shape), over the frames of y."""
    given = excerpt.x if x is None else x
    size = fast_length(given.shape[1] + len(taps) - 1)
    whole = fft.irfft(fft.rfft(given, size) * fft.rfft(taps, size), size)
    first = excerpt.reach + before
    return np.asarray(whole[:, first : first + excerpt.y.shape[1]])


def _normal_equations(
    excerpt: Excerpt, y: Floats, chosen: NDArray[np.bool_], before: int, after: int
) -> tuple[Floats, Floats]:
    """Gram matrix (its upper triangle) and right side over the chosen frames; exact at the edges of their runs.

    Tap k meets x at t + before − k. Along its diagonals the Gram matrix of a run differs by what goes in and out at its
    ends alone.
    """
    taps = before + after + 1
    edges = np.flatnonzero(np.diff(np.concatenate([[0], chosen.astype(np.int8), [0]])))
    runs = [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]
    first, cross = np.zeros(taps), np.zeros(taps)
    into, out = [], []
    for row, target in zip(excerpt.x, y, strict=True):
        for a, b in runs:
            # x at t + before − k for t in a … b and k in 0 … taps − 1
            seen = row[excerpt.reach + a - after : excerpt.reach + b + before]
            size = fast_length(len(seen) + taps)
            spectrum = fft.rfft(seen, size)
            latest = fft.rfft(seen[after + before :], size)
            first += _lags(spectrum, latest, size, taps)
            cross += _lags(spectrum, fft.rfft(target[a:b], size), size, taps)
            into.append(row[excerpt.reach + a - after : excerpt.reach + a + before][::-1])
            out.append(row[excerpt.reach + b - after : excerpt.reach + b + before][::-1])
    gram = np.zeros((taps, taps))
    gram[0] = first
    entering, leaving = np.array(into), np.array(out)
    steps = entering.T @ entering - leaving.T @ leaving
    for i in range(1, taps):
        gram[i, i:] = gram[i - 1, i - 1 : -1] + steps[i - 1, i - 1 :]
    return gram, cross


def _lags(seen: NDArray[np.complex128], other: NDArray[np.complex128], size: int, taps: int) -> Floats:
    """For each tap k the sum over t of seen[t + taps − 1 − k] · other[t]."""
    sums = fft.irfft(seen * np.conj(other), size)
    return np.asarray(sums[:taps][::-1])


def _solve(gram: Floats, cross: Floats, ridge: float) -> Floats | None:
    """The taps, of a Gram matrix whose upper triangle is given."""
    diagonal = np.diag_indices_from(gram)
    mean = float(np.trace(gram)) / len(gram)
    if len(gram) >= _LIBRARY_PAYS_TAPS:
        # Slow to load, and half as many sums: by its upper triangle alone, where rounding leaves it positive definite.
        from scipy.linalg.lapack import dposv

        loaded = gram.copy()
        loaded[diagonal] += ridge * mean
        _, taps, failed = dposv(loaded.T, cross, lower=True, overwrite_a=True)
        if not failed:
            return np.asarray(taps)
    # NumPy's own solver: loading a larger library would take longer than a small solution.
    loaded = gram + np.triu(gram, 1).T
    loaded[diagonal] += ridge * mean
    try:
        return np.asarray(np.linalg.solve(loaded, cross))
    except np.linalg.LinAlgError:
        return None
