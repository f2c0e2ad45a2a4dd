# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Recursive filters, compiled when the project is installed; as `loops`, but sums are in the order written.

Each waits on its own last result, and the order of the sums keeps that wait short. Two channels are taken at a time:
two wait no longer than one.
"""

include "checks.pxi"

cdef extern from *:
    """
    typedef double Both __attribute__((vector_size(16)));
    static inline Both both(double a, double b) { return (Both){a, b}; }
    static inline Both greater_of(Both a, Both b) { return both(a[0] > b[0] ? a[0] : b[0], a[1] > b[1] ? a[1] : b[1]); }
    static inline double half_of(Both a, int which) { return a[which]; }
    """
    ctypedef double Both
    Both both(double, double) noexcept nogil
    Both greater_of(Both, Both) noexcept nogil
    double half_of(Both, int) noexcept nogil


def add_weighted_hops(
    const double[:, ::1] rows, long start, const long[::1] edges, Py_ssize_t first, double[:, ::1] energies,
    const double[:, ::1] taps, double[:, ::1] state,
):
    """As `loops.add_hops`, after two second-order sections: `taps` shape (2, 5) as b0 b1 b2 a1 a2, `state` (channels, 4)."""
    cdef Py_ssize_t c, d, i, k, stop, hop, last = first, frames = rows.shape[1], channels = rows.shape[0]
    cdef double b0 = taps[0, 0], b1 = taps[0, 1], b2 = taps[0, 2], a1 = taps[0, 3], a2 = taps[0, 4]
    cdef double d0 = taps[1, 0], d1 = taps[1, 1], d2 = taps[1, 2], c1 = taps[1, 3], c2 = taps[1, 4]
    _needs(energies.shape[0] == state.shape[0] == channels and energies.shape[1] == edges.shape[0], "rows and hops")
    _needs(taps.shape[0] == 2 and taps.shape[1] == 5 and state.shape[1] == 4, "sections and states")
    _needs(start + frames < edges[edges.shape[0] - 1], "the block and the file's length")
    cdef Both s1, s2, t1, t2, x, y, z, power
    cdef const double* one
    cdef const double* two
    with nogil:
        for c in range(0, channels, 2):
            d = c + 1 if c + 1 < channels else c
            one, two = &rows[c, 0], &rows[d, 0]
            s1, s2 = both(state[c, 0], state[d, 0]), both(state[c, 1], state[d, 1])
            t1, t2 = both(state[c, 2], state[d, 2]), both(state[c, 3], state[d, 3])
            hop, i = first, 0
            while i < frames:
                stop = min(frames, edges[hop] - start)
                power = both(0.0, 0.0)
                for k in range(i, stop):
                    x = both(one[k], two[k])
                    y = b0 * x + s1
                    s1 = (b1 * x + s2) - a1 * y
                    s2 = b2 * x - a2 * y
                    z = d0 * y + t1
                    t1 = (d1 * y + t2) - c1 * z
                    t2 = d2 * y - c2 * z
                    power = power + z * z
                energies[c, hop] += half_of(power, 0)
                if d != c:
                    energies[d, hop] += half_of(power, 1)
                i = stop
                if start + i >= edges[hop]:
                    hop += 1
            for i in range(1, -1, -1):  # a channel that goes alone fills both halves
                k = d if i else c
                state[k, 0], state[k, 1] = half_of(s1, i), half_of(s2, i)
                state[k, 2], state[k, 3] = half_of(t1, i), half_of(t2, i)
            last = hop
    return last


def needle(
    const float[:, ::1] rectified, const double[:, ::1] a, const double[::1] b, double[:, ::1] state, double[::1] best
):
    """Greatest deflection of a second-order needle driven by rectified rows; `state` is position and speed of each."""
    cdef Py_ssize_t c, d, i, channels = rectified.shape[0]
    cdef double a00 = a[0, 0], a01 = a[0, 1], a10 = a[1, 0], a11 = a[1, 1], b0 = b[0], b1 = b[1]
    _needs(state.shape[0] == best.shape[0] == channels and state.shape[1] == 2, "rows and needles")
    cdef Both at, speed, drive, new, high
    cdef const float* one
    cdef const float* two
    with nogil:
        for c in range(0, channels, 2):
            d = c + 1 if c + 1 < channels else c
            one, two = &rectified[c, 0], &rectified[d, 0]
            at, speed = both(state[c, 0], state[d, 0]), both(state[c, 1], state[d, 1])
            high = both(best[c], best[d])
            for i in range(rectified.shape[1]):
                drive = both(one[i], two[i])
                new = a00 * at + (a01 * speed + b0 * drive)
                speed = a10 * at + (a11 * speed + b1 * drive)
                at = new
                high = greater_of(high, at)
            state[d, 0], state[d, 1], best[d] = half_of(at, 1), half_of(speed, 1), half_of(high, 1)
            state[c, 0], state[c, 1], best[c] = half_of(at, 0), half_of(speed, 0), half_of(high, 0)
