# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The loop that finds samples that are not finite: compiled so that the compiler may not take it that there are none.

Blocks are rows: float64, shape (channels, frames), contiguous. The interpreter's lock is released.
"""

from libc.math cimport fabs

include "checks.pxi"


cdef inline double _greater(double a, double b) noexcept nogil:
    return a if a > b else b


def scan(const double[:, ::1] rows, double[::1] peak, double[::1] energy, double[::1] total):
    """Add a block to peak, sum of squares and sum of each channel; a sample that is not finite spoils the sums."""
    cdef Py_ssize_t c, i, frames = rows.shape[1]
    cdef double high, power, mean, x
    cdef const double* row
    _needs(peak.shape[0] == energy.shape[0] == total.shape[0] == rows.shape[0], "rows and totals")
    with nogil:
        for c in range(rows.shape[0]):
            row = &rows[c, 0]
            high = 0.0
            power = 0.0
            mean = 0.0
            for i in range(frames):
                x = row[i]
                high = _greater(high, fabs(x))
                power += x * x
                mean += x
            peak[c] = _greater(peak[c], high)
            energy[c] += power
            total[c] += mean
