# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Loops over samples, compiled when the project is installed.

Each takes one block and the state that it carries to the next. Blocks are rows: float64, shape (channels, frames),
contiguous. All release the interpreter's lock, so that two files are read at once. Sums are in whatever order is
fastest. ValueError where the shapes do not fit together: indices are not checked one by one.
"""

from libc.math cimport fabs, fabsf

include "checks.pxi"

cdef enum:
    PIECE = 512  # samples interpolated at a time
    TILE = 32  # samples whose sums fit into the registers
    TAPS = 64  # of what reads between samples
    NODES = 6  # rows of its table that taps are interpolated through

UNKNOWN = 3e38
"""Stands for the points before the first, so that no summit is seen there."""

cdef float _UNKNOWN = UNKNOWN


cdef inline double _greater(double a, double b) noexcept nogil:
    return a if a > b else b


cdef inline float _greaterf(float a, float b) noexcept nogil:
    return a if a > b else b


def keep_single(const double[:, ::1] block, Py_ssize_t start, float[:, ::1] kept):
    """Keep a block, shape (frames, channels), in 32 bits as rows, from frame `start`; whether nothing is lost by it."""
    cdef Py_ssize_t c, i, channels = block.shape[1]
    cdef long lost = 0
    cdef const double* samples
    cdef float* out
    _needs(kept.shape[0] == channels and 0 <= start <= kept.shape[1] - block.shape[0], "a block and its place")
    with nogil:
        for c in range(channels):
            samples, out = &block[0, c], &kept[c, start]
            for i in range(block.shape[0]):
                out[i] = <float>samples[i * channels]
                lost += 1 if <double>out[i] != samples[i * channels] else 0
    return lost == 0


def count_rail_runs(const double[:, ::1] rows, double rail, long[::1] run, long[::1] side, long[::1] runs):
    """Count runs of three or more samples at the rail; `run` and `side` are what goes on from the last block."""
    cdef Py_ssize_t c, i
    cdef long length, where, found, now
    cdef double x
    _needs(run.shape[0] == side.shape[0] == runs.shape[0] == rows.shape[0], "rows and runs")
    with nogil:
        for c in range(rows.shape[0]):
            length, where, found = run[c], side[c], runs[c]
            for i in range(rows.shape[1]):
                x = rows[c, i]
                now = 1 if x >= rail else (-1 if x <= -1.0 else 0)
                if now != 0 and now == where:
                    length += 1
                    if length == 3:
                        found += 1
                else:
                    length = 1 if now != 0 else 0
                    where = now
            run[c], side[c], runs[c] = length, where, found


def window_peaks(const double[:, ::1] rows, Py_ssize_t start, Py_ssize_t window, double[:, ::1] out):
    """Greatest magnitude in each whole window of a block from frame `start`; `out` has shape (channels, windows)."""
    cdef Py_ssize_t c, w, i
    cdef double high
    cdef const double* here
    _needs(out.shape[0] == rows.shape[0] and start + out.shape[1] * window <= rows.shape[1], "rows and windows")
    with nogil:
        for c in range(rows.shape[0]):
            for w in range(out.shape[1]):
                here = &rows[c, start + w * window]
                high = 0.0
                for i in range(window):
                    high = _greater(high, fabs(here[i]))
                out[c, w] = high


def add_hops(const double[:, ::1] rows, long start, const long[::1] edges, Py_ssize_t first, double[:, ::1] energies):
    """Add squares to the hop that each frame falls in; the hop that the block ends in.

    Args:
        start: frame of the file that the block begins with.
        edges: hop ends, the last beyond the file.
        first: hop that the block begins in.
        energies: shape (channels, hops).
    """
    cdef Py_ssize_t c, i, k, stop, hop = first, frames = rows.shape[1]
    cdef double power
    _needs(energies.shape[0] == rows.shape[0] and energies.shape[1] == edges.shape[0], "rows and hops")
    _needs(start + frames < edges[edges.shape[0] - 1], "the block and the file's length")
    with nogil:
        i = 0
        while i < frames:
            stop = min(frames, edges[hop] - start)
            for c in range(rows.shape[0]):
                power = 0.0
                for k in range(i, stop):
                    power += rows[c, k] * rows[c, k]
                energies[c, hop] += power
            i = stop
            if start + i >= edges[hop]:
                hop += 1
    return hop


def interpolate(
    const float[::1] padded, const float[:, ::1] phases, double best, float[::1] mean, float[::1] edge
):
    """Greatest magnitude of a channel at four times its rate, between grid points by a parabola.

    Args:
        padded: samples of one channel with taps − 1 frames of neighbours (half before, half after).
        phases: taps of the three points between two samples, shape (3, taps).
        best: greatest magnitude so far.
        mean: gets the mean magnitude of the four points of each sample.
        edge: the last two points of what went before; `UNKNOWN` at the start.
    """
    cdef Py_ssize_t taps = phases.shape[1], frames = padded.shape[0] - taps + 1, half = taps // 2 - 1
    cdef Py_ssize_t begin, size, i, k, p, at
    cdef float[4][PIECE] grid
    cdef float[TILE] first, second, third
    cdef float e, f, g, x, a, b, c, d, before = edge[0], last = edge[1], now, bend, top, high, so_far = best
    cdef const float* here
    _needs(phases.shape[0] == 3 and mean.shape[0] == frames and edge.shape[0] == 2, "samples and means")
    with nogil:
        begin = 0
        while begin < frames:
            size = min(PIECE, frames - begin)
            for i in range(size):
                grid[0][i] = padded[begin + half + i]
            at = 0
            while at + TILE <= size:
                # Sums that fit into the registers, over all taps.
                for i in range(TILE):
                    first[i] = 0.0
                    second[i] = 0.0
                    third[i] = 0.0
                for k in range(taps):
                    here = &padded[begin + at + k]
                    e, f, g = phases[0, k], phases[1, k], phases[2, k]
                    for i in range(TILE):
                        first[i] += e * here[i]
                    for i in range(TILE):
                        second[i] += f * here[i]
                    for i in range(TILE):
                        third[i] += g * here[i]
                for i in range(TILE):
                    grid[1][at + i] = first[i]
                    grid[2][at + i] = second[i]
                    grid[3][at + i] = third[i]
                at += TILE
            for i in range(at, size):
                e, f, g = 0.0, 0.0, 0.0
                for k in range(taps):
                    x = padded[begin + i + k]
                    e += phases[0, k] * x
                    f += phases[1, k] * x
                    g += phases[2, k] * x
                grid[1][i], grid[2][i], grid[3][i] = e, f, g
            high = 0.0
            for i in range(size):
                a = fabsf(grid[0][i])
                b = fabsf(grid[1][i])
                c = fabsf(grid[2][i])
                d = fabsf(grid[3][i])
                mean[begin + i] = <float>0.25 * (a + b + c + d)
                high = _greaterf(high, _greaterf(_greaterf(a, b), _greaterf(c, d)))
            if high * <float>1.08 > so_far:
                for i in range(size):
                    for p in range(4):
                        now = fabsf(grid[p][i])
                        if last >= before and last >= now and before < _UNKNOWN and last * <float>1.08 > so_far:
                            bend = before - 2 * last + now
                            top = last
                            if bend < 0:
                                top = last - <float>0.125 * (now - before) * ((now - before) / bend)
                            so_far = _greaterf(so_far, top)
                        before, last = last, now
            else:
                before, last = fabsf(grid[2][size - 1]), fabsf(grid[3][size - 1])
            so_far = _greaterf(so_far, high)
            begin += size
    edge[0], edge[1] = before, last
    return so_far


def pair_sums(
    const double[:, ::1] x, const double[:, ::1] y, double step, double ceiling,
    double[:, ::1] sums, double[::1] peaks, long[:, ::1] counts,
):
    """Sums of a block of y − x.

    `sums` (channels, 4): x², x·y, y², difference². `peaks` (channels). `counts` (channels, 3): samples that differ by
    more than `step`, that differ at all, and that changed where |x| is under `ceiling`.
    """
    cdef Py_ssize_t c, i, frames = x.shape[1]
    cdef double xx, xy, yy, dd, high, a, b, e, size
    cdef long changed, differ, below
    cdef const double* one
    cdef const double* two
    _needs(y.shape[0] == x.shape[0] and y.shape[1] == frames, "the two sides")
    _needs(sums.shape[0] == peaks.shape[0] == counts.shape[0] == x.shape[0], "rows and sums")
    _needs(sums.shape[1] == 4 and counts.shape[1] == 3, "sums and counts")
    with nogil:
        for c in range(x.shape[0]):
            one, two = &x[c, 0], &y[c, 0]
            xx, xy, yy, dd, high = 0.0, 0.0, 0.0, 0.0, 0.0
            changed, differ, below = 0, 0, 0
            for i in range(frames):
                a = one[i]
                b = two[i]
                e = b - a
                size = fabs(e)
                xx += a * a
                xy += a * b
                yy += b * b
                dd += e * e
                high = _greater(high, size)
                changed += 1 if size > step else 0
                differ += 1 if a != b else 0
                below += 1 if (size > step) & (fabs(a) < ceiling) else 0
            sums[c, 0] += xx
            sums[c, 1] += xy
            sums[c, 2] += yy
            sums[c, 3] += dd
            peaks[c] = _greater(peaks[c], high)
            counts[c, 0] += changed
            counts[c, 1] += differ
            counts[c, 2] += below


def changed_regions(
    const double[:, ::1] x, const double[:, ::1] y, double step, long start, long gap,
    unsigned char[::1] beyond, long[::1] state,
):
    """Join changed frames closer than `gap` to regions.

    Args:
        beyond: room for a block's frames.
        state: changed frames in any channel, regions, longest region, first and last frame of the open region (−1 for
            none).
    """
    cdef Py_ssize_t c, i, frames = x.shape[1]
    cdef long total = state[0], regions = state[1], longest = state[2], first = state[3], last = state[4], at
    cdef const double* one
    cdef const double* two
    cdef unsigned char* mark = &beyond[0]
    _needs(y.shape[0] == x.shape[0] and y.shape[1] == frames <= beyond.shape[0] and state.shape[0] == 5, "the two sides")
    with nogil:
        for i in range(frames):
            mark[i] = 0
        for c in range(x.shape[0]):
            one, two = &x[c, 0], &y[c, 0]
            for i in range(frames):
                mark[i] |= 1 if fabs(two[i] - one[i]) > step else 0
        for i in range(frames):
            if mark[i]:
                at = start + i
                total += 1
                if first < 0 or at - last >= gap:
                    regions += 1
                    first = at
                last = at
                longest = max(longest, last - first + 1)
    state[0], state[1], state[2], state[3], state[4] = total, regions, longest, first, last


def find_steps(
    const double[::1] x, const double[::1] y, double scale, Py_ssize_t reach, Py_ssize_t near, double floor,
    double ratio, double[::1] steps, long[::1] found,
):
    """Frames at which scale·y − x makes a step that stands alone and that x does not make; the count of them.

    A step stands alone when it is `ratio` times the mean step of the `reach` frames on either side (three left out).
    x makes one when a step of its own within `near` frames is greater, and six times its mean.

    Args:
        reach: at least 4, and at least `near`.
        steps: room for the block's frames.
    """
    cdef Py_ssize_t size = x.shape[0], i, k, quiet_until = -1
    cdef long count = 0
    cdef double around = 0.0, close, others, own, its, step
    cdef double* e = &steps[0]
    _needs(y.shape[0] == size <= steps.shape[0] and reach > 3 and near <= reach, "the two sides")
    with nogil:
        e[0] = 0.0
        for i in range(1, size):
            e[i] = fabs((scale * y[i] - x[i]) - (scale * y[i - 1] - x[i - 1]))
        for i in range(min(2 * reach + 1, size)):
            around += e[i]
        for i in range(reach + 1, size - reach - 1):
            around += e[i + reach] - e[i - reach - 1]
            # What is rarely so is asked first, so that the processor guesses right.
            if e[i] * (2 * reach + 1) > ratio * (around - 7 * e[i]) and e[i] > floor and i > quiet_until:
                close = 0.0
                for k in range(i - 3, i + 4):
                    close += e[k]
                others = _greater(around - close, 0.0) / (2 * reach - 6)
                if e[i] <= ratio * others:
                    continue
                its = 0.0
                own = 0.0
                for k in range(i - reach, i + reach + 1):
                    step = fabs(x[k] - x[k - 1])
                    its += step
                    if -near <= k - i <= near:
                        own = _greater(own, step)
                # Where the reference has a transient of its own, only a greater step than that is a click.
                if own * (2 * reach + 1) <= 6.0 * its or e[i] > own:
                    if count < found.shape[0]:
                        found[count] = i
                    count += 1
                    quiet_until = i + reach
    return count


def quiet_runs(
    const double[::1] x, const double[::1] y, double threshold, double loud, long least, long start,
    long[::1] state, long[:, ::1] out,
):
    """Stretches of at least `least` frames in which y stays under a threshold while x does not; the count of them.

    `state`: first frame of the quiet run of y (−1 for none), first and last frame in it at which x passes `loud`.
    `out` (n, 2) gets first frame and length of each as far as there is room.
    """
    cdef Py_ssize_t i
    cdef long count = 0, begin = state[0], first = state[1], last = state[2]
    _needs(y.shape[0] == x.shape[0] and out.shape[1] == 2 and state.shape[0] == 3, "the two sides")
    with nogil:
        for i in range(x.shape[0]):
            if fabs(y[i]) < threshold:
                if begin < 0:
                    begin, first, last = start + i, -1, -1
                if fabs(x[i]) > loud:
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


def read_between(
    const double[:, ::1] rows, const long[::1] first, const double[::1] fractions, const double[:, ::1] table,
    double[:, ::1] out,
):
    """Rows at places between their samples; `out`, shape (places, channels), gets them.

    `first` is the sample under the first of 64 taps, by place. Row k of `table` has the taps at (k − 2) / steps of a
    sample, for steps + 5 rows: those at a fraction, 0 to 1, lie on Lagrange's polynomial through the six around it.
    """
    cdef Py_ssize_t f, c, k, t, at, steps = table.shape[0] - NODES + 1
    cdef double b, total
    cdef double[NODES] share
    cdef double[TAPS] taps
    cdef const double* row
    _needs(table.shape[1] == TAPS and steps > 0, "taps and their table")
    _needs(out.shape[0] == first.shape[0] == fractions.shape[0] and out.shape[1] == rows.shape[0], "places and rows")
    with nogil:
        for f in range(first.shape[0]):
            if first[f] < 0 or first[f] + TAPS > rows.shape[1] or not 0.0 <= fractions[f] <= 1.0:
                with gil:
                    raise ValueError("places and rows do not fit together")
            b = fractions[f] * steps
            at = min(<Py_ssize_t>b, steps - 1)
            b -= at
            share[0] = -(b + 1) * b * (b - 1) * (b - 2) * (b - 3) / 120
            share[1] = (b + 2) * b * (b - 1) * (b - 2) * (b - 3) / 24
            share[2] = -(b + 2) * (b + 1) * (b - 1) * (b - 2) * (b - 3) / 12
            share[3] = (b + 2) * (b + 1) * b * (b - 2) * (b - 3) / 12
            share[4] = -(b + 2) * (b + 1) * b * (b - 1) * (b - 3) / 24
            share[5] = (b + 2) * (b + 1) * b * (b - 1) * (b - 2) / 120
            for t in range(TAPS):
                taps[t] = 0.0
            for k in range(NODES):
                row = &table[at + k, 0]
                for t in range(TAPS):
                    taps[t] += share[k] * row[t]
            for c in range(rows.shape[0]):
                row = &rows[c, first[f]]
                total = 0.0
                for t in range(TAPS):
                    total += taps[t] * row[t]
                out[f, c] = total
