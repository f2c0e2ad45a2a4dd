"""Loops over samples, compiled: each takes one block and the state that it carries to the next.

All release the interpreter's lock, so that two files are read at once. Compiled code is kept on disk.
"""

from collections.abc import Callable
from typing import Any, TypeVar, cast

import numba
import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.floating[Any]]
Counts = NDArray[np.int64]
F = TypeVar("F", bound=Callable[..., Any])


def compiled(function: F) -> F:
    """The function as machine code, kept on disk."""
    return cast(F, numba.njit(cache=True, nogil=True)(function))


def compiled_fast(function: F) -> F:
    """As `compiled`, with sums in whatever order is fastest."""
    return cast(F, numba.njit(cache=True, nogil=True, fastmath={"reassoc", "contract", "nsz"})(function))


@compiled_fast
def scan(block: Floats, peak: Floats, energy: Floats, total: Floats) -> None:
    """Add a block to peak, sum of squares and sum of each channel; a sample that is not finite spoils the sums."""
    frames, channels = block.shape
    for c in range(channels):
        high, power, mean = 0.0, 0.0, 0.0
        for i in range(frames):
            x = block[i, c]
            high = max(high, abs(x))
            power += x * x
            mean += x
        peak[c] = max(peak[c], high)
        energy[c] += power
        total[c] += mean


@compiled
def count_rail_runs(block: Floats, rail: float, run: Counts, side: Counts, runs: Counts) -> None:
    """Count runs of three or more samples at the rail; `run` and `side` are what goes on from the last block."""
    frames, channels = block.shape
    for c in range(channels):
        length, where, found = run[c], side[c], runs[c]
        for i in range(frames):
            x = block[i, c]
            now = 1 if x >= rail else (-1 if x <= -1.0 else 0)
            if now != 0 and now == where:
                length += 1
                if length == 3:
                    found += 1
            else:
                length, where = (1 if now != 0 else 0), now
        run[c], side[c], runs[c] = length, where, found


@compiled_fast
def window_peaks(block: Floats, window: int, out: Floats) -> None:
    """Greatest magnitude in each whole window of a block; `out` has shape (windows, channels)."""
    for w in range(out.shape[0]):
        for c in range(block.shape[1]):
            high = 0.0
            for i in range(w * window, (w + 1) * window):
                high = max(high, abs(block[i, c]))
            out[w, c] = high


@compiled_fast
def add_hops(block: Floats, start: int, edges: Counts, first: int, energies: Floats) -> int:
    """Add squares to the hop that each frame falls in; the hop that the block ends in. `edges` are hop ends."""
    hop = first
    frames, channels = block.shape
    i = 0
    while i < frames:
        stop = min(frames, edges[hop] - start)
        for c in range(channels):
            power = 0.0
            for k in range(i, stop):
                power += block[k, c] * block[k, c]
            energies[hop, c] += power
        i = stop
        if start + i >= edges[hop]:
            hop += 1
    return hop


@compiled_fast
def add_weighted_hops(
    block: Floats, start: int, edges: Counts, first: int, energies: Floats, taps: Floats, state: Floats
) -> int:
    """As add_hops, after two second-order sections: `taps` shape (2, 5) as b0 b1 b2 a1 a2, `state` (channels, 4)."""
    frames, channels = block.shape
    b0, b1, b2, a1, a2 = taps[0]
    d0, d1, d2, c1, c2 = taps[1]
    last = first
    for c in range(channels):
        s1, s2, t1, t2 = state[c]
        hop, i = first, 0
        while i < frames:
            stop = min(frames, edges[hop] - start)
            power = 0.0
            for k in range(i, stop):
                x = block[k, c]
                y = b0 * x + s1
                s1 = b1 * x - a1 * y + s2
                s2 = b2 * x - a2 * y
                z = d0 * y + t1
                t1 = d1 * y - c1 * z + t2
                t2 = d2 * y - c2 * z
                power += z * z
            energies[hop, c] += power
            i = stop
            if start + i >= edges[hop]:
                hop += 1
        state[c, 0], state[c, 1], state[c, 2], state[c, 3] = s1, s2, t1, t2
        last = hop
    return last


_PIECE = 512


@compiled_fast
def interpolate(padded: Floats, phases: Floats, best: float, mean: Floats, edge: Floats) -> float:
    """Greatest magnitude of a channel at four times its rate, between grid points by a parabola.

    Args:
        padded: float32 samples of one channel with taps − 1 frames of neighbours (half before, half after).
        phases: float32; taps of the three points between two samples, shape (3, taps); taps a multiple of 4.
        best: greatest magnitude so far.
        mean: gets the mean magnitude of the four points of each sample.
        edge: the last two points of what went before, infinite at the start, so that a summit there is seen.
    """
    taps = phases.shape[1]
    frames = padded.shape[0] - taps + 1
    half = taps // 2 - 1
    grid = np.empty((4, _PIECE), np.float32)
    before, last = edge[0], edge[1]
    for begin in range(0, frames, _PIECE):
        size = min(_PIECE, frames - begin)
        for i in range(size):
            grid[0, i] = padded[begin + half + i]
        for p in range(3):
            row = grid[p + 1, :size]
            row[:] = np.float32(0.0)
            # Four taps at a time: a quarter of the traffic to and from the row.
            for k in range(0, taps, 4):
                e, f, g, h = phases[p, k], phases[p, k + 1], phases[p, k + 2], phases[p, k + 3]
                one = padded[begin + k : begin + k + size]
                two = padded[begin + k + 1 : begin + k + 1 + size]
                three = padded[begin + k + 2 : begin + k + 2 + size]
                four = padded[begin + k + 3 : begin + k + 3 + size]
                for i in range(size):
                    row[i] += e * one[i] + f * two[i] + g * three[i] + h * four[i]
        high = 0.0
        for i in range(size):
            a, b, c, d = abs(grid[0, i]), abs(grid[1, i]), abs(grid[2, i]), abs(grid[3, i])
            mean[begin + i] = np.float32(0.25) * (a + b + c + d)
            high = max(high, max(max(a, b), max(c, d)))
        if high * 1.08 > best:
            for i in range(size):
                for p in range(4):
                    now = abs(grid[p, i])
                    if last >= before and last >= now and last * 1.08 > best and before < np.inf:
                        bend = before - 2.0 * last + now
                        top = last
                        if bend < 0.0:
                            top = last - 0.125 * (now - before) * (now - before) / bend
                        best = max(best, top)
                    before, last = last, now
        else:
            before, last = abs(grid[2, size - 1]), abs(grid[3, size - 1])
        best = max(best, high)
    edge[0], edge[1] = before, last
    return best


@compiled
def needle(rectified: Floats, a: Floats, b: Floats, state: Floats, best: float) -> float:
    """Greatest deflection of a second-order needle driven by rectified samples; `state` is position and speed."""
    x0, x1 = state[0], state[1]
    for i in range(rectified.shape[0]):
        u = rectified[i]
        y0 = a[0, 0] * x0 + a[0, 1] * x1 + b[0] * u
        x1 = a[1, 0] * x0 + a[1, 1] * x1 + b[1] * u
        x0 = y0
        best = max(best, x0)
    state[0], state[1] = x0, x1
    return best


@compiled_fast
def residual_sums(
    x: Floats, y: Floats, scale: float, step: float, ceiling: float, sums: Floats, peaks: Floats, counts: Counts
) -> None:
    """Sums of a block of scale·y − x.

    `sums` (channels, 4): x², x·y, y², difference². `peaks` (channels). `counts` (channels, 3): samples that differ by
    more than `step`, that differ at all, and that changed where |x| is under `ceiling`.
    """
    frames, channels = x.shape
    for c in range(channels):
        xx, xy, yy, dd, high = 0.0, 0.0, 0.0, 0.0, 0.0
        changed, differ, below = 0, 0, 0
        for i in range(frames):
            a = x[i, c]
            b = y[i, c]
            d = scale * b - a
            size = abs(d)
            xx += a * a
            xy += a * b
            yy += b * b
            dd += d * d
            high = max(high, size)
            changed += size > step
            differ += a != b
            below += (size > step) & (abs(a) < ceiling)
        sums[c, 0] += xx
        sums[c, 1] += xy
        sums[c, 2] += yy
        sums[c, 3] += dd
        peaks[c] = max(peaks[c], high)
        counts[c, 0] += changed
        counts[c, 1] += differ
        counts[c, 2] += below


@compiled
def changed_regions(x: Floats, y: Floats, scale: float, step: float, start: int, gap: int, state: Counts) -> None:
    """Join changed frames closer than `gap` to regions.

    `state`: changed frames in any channel, of these under the ceiling (unused here), regions, longest region, first
    and last frame of the open region (−1 for none).
    """
    frames, channels = x.shape
    total, regions, longest, first, last = state[0], state[2], state[3], state[4], state[5]
    for i in range(frames):
        beyond = False
        for c in range(channels):
            if abs(scale * y[i, c] - x[i, c]) > step:
                beyond = True
        if beyond:
            at = start + i
            total += 1
            if first < 0 or at - last >= gap:
                regions += 1
                first = at
            last = at
            longest = max(longest, last - first + 1)
    state[0], state[2], state[3], state[4], state[5] = total, regions, longest, first, last


@compiled
def find_steps(x: Floats, y: Floats, reach: int, floor: float, ratio: float, found: Counts) -> int:
    """Frames at which y − x makes a step that stands alone and that x does not make; the count of them.

    A step stands alone when it is `ratio` times the mean step of the `reach` frames on either side (three left out).
    x makes one when a step of its own within 16 frames is greater, and six times its mean.
    """
    size = x.shape[0]
    e = np.empty(size)
    e[0] = 0.0
    for i in range(1, size):
        e[i] = abs((y[i] - x[i]) - (y[i - 1] - x[i - 1]))
    count, quiet_until = 0, -1
    around = 0.0
    for i in range(min(2 * reach + 1, size)):
        around += e[i]
    for i in range(max(reach, 1), size - reach - 1):
        if i > reach:
            around += e[i + reach] - e[i - reach - 1]
        if e[i] > floor and i > quiet_until and e[i] * (2 * reach + 1) > ratio * (around - 7 * e[i]):
            others = max(around - e[i - 3 : i + 4].sum(), 0.0) / (2 * reach - 6)
            if e[i] <= ratio * others:
                continue
            steps, own = 0.0, 0.0
            for k in range(i - reach, i + reach + 1):
                step = abs(x[k] - x[k - 1])
                steps += step
                if abs(k - i) <= 16:
                    own = max(own, step)
            # Where the reference has a transient of its own, only a greater step than that is a click.
            if own * (2 * reach + 1) <= 6.0 * steps or e[i] > own:
                if count < found.shape[0]:
                    found[count] = i
                count += 1
                quiet_until = i + reach
    return count


@compiled
def quiet_runs(
    x: Floats, y: Floats, threshold: float, loud: float, least: int, start: int, state: Counts, out: Counts
) -> int:
    """Stretches of at least `least` frames in which y stays under a threshold while x does not; the count of them.

    `state`: first frame of the quiet run of y (−1 for none), first and last frame in it at which x passes `loud`.
    `out` (n, 2) gets first frame and length of each as far as there is room.
    """
    count = 0
    begin, first, last = state[0], state[1], state[2]
    for i in range(x.shape[0]):
        if abs(y[i]) < threshold:
            if begin < 0:
                begin, first, last = start + i, -1, -1
            if abs(x[i]) > loud:
                if first < 0:
                    first = start + i
                last = start + i
        elif begin >= 0:
            if first >= 0 and last - first + 1 >= least:
                if count < out.shape[0]:
                    out[count, 0], out[count, 1] = first, last - first + 1
                count += 1
            begin, first, last = -1, -1, -1
    state[0], state[1], state[2] = begin, first, last
    return count
