# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Loops of the simulated effects that carry a state from sample to sample, compiled when the project is installed.

float64, contiguous; frames come first. Every sum runs over its terms in order, many frames side by side, so that
neither the size of a block nor the width of a processor's vectors changes a result. ValueError where shapes do not fit
together: indices are not checked one by one.
"""

from libc.math cimport sin

import numpy as np

cdef enum:
    TILE = 256  # frames whose sums stay in the nearest cache


cdef int _needs(bint fits, str what) except -1:
    if not fits:
        raise ValueError(f"{what} do not fit together")
    return 0


cdef inline void _add(double* sums, double tap, const double* samples, Py_ssize_t count) noexcept nogil:
    cdef Py_ssize_t i
    for i in range(count):
        sums[i] += tap * samples[i]


def raise_rate(const double[:, ::1] extended, const double[:, ::1] phases):
    """Frames times the factor of `phases`, shape (taps, factor), of a block with taps − 1 frames before it."""
    cdef Py_ssize_t rows = phases.shape[0], factor = phases.shape[1], channels = extended.shape[1]
    cdef Py_ssize_t frames = extended.shape[0] - (rows - 1)
    cdef Py_ssize_t channel, start, count, p, k, i
    cdef double[TILE] sums
    _needs(frames >= 0, "a block and its filter")
    out = np.zeros((frames * factor, channels))
    cdef double[:, ::1] result = out
    cdef double[:, ::1] lanes = np.ascontiguousarray(np.asarray(extended).T)
    with nogil:
        for channel in range(channels):
            start = 0
            while start < frames:
                count = min(<Py_ssize_t>TILE, frames - start)
                for p in range(factor):
                    for i in range(count):
                        sums[i] = 0.0
                    for k in range(rows):
                        _add(sums, phases[k, p], &lanes[channel, start + rows - 1 - k], count)
                    for i in range(count):
                        result[(start + i) * factor + p, channel] = sums[i]
                start += TILE
    return out


def lower_rate(const double[:, ::1] extended, const double[:, ::1] phases):
    """One frame in `factor` of a block at the raised rate, with the frames before it that the filter needs."""
    cdef Py_ssize_t rows = phases.shape[0], factor = phases.shape[1], channels = extended.shape[1]
    cdef Py_ssize_t frames = extended.shape[0] // factor - (rows - 1)
    cdef Py_ssize_t channel, start, count, p, k, i
    cdef double[TILE] sums
    _needs(frames >= 0, "a block and its filter")
    out = np.zeros((frames, channels))
    cdef double[:, ::1] result = out
    whole = np.asarray(extended)[: (frames + rows - 1) * factor]
    cdef double[:, :, ::1] lanes = np.ascontiguousarray(whole.reshape(-1, factor, channels).transpose(2, 1, 0))
    with nogil:
        for channel in range(channels):
            start = 0
            while start < frames:
                count = min(<Py_ssize_t>TILE, frames - start)
                for i in range(count):
                    result[start + i, channel] = phases[rows - 1, 0] * lanes[channel, 0, start + i + rows - 1]
                for p in range(factor):
                    for i in range(count):
                        sums[i] = 0.0
                    for k in range(rows - 1):
                        _add(sums, phases[k, p], &lanes[channel, p, start + k], count)
                    for i in range(count):
                        result[start + i, channel] += sums[i]
                start += TILE
    return out


def hold_least(const double[::1] needed, Py_ssize_t length, double release, double[::1] state):
    """Least over the last `length` frames, from which a gain recovers; `state` is the gain."""
    cdef Py_ssize_t frames = needed.shape[0] - length + 1, i, k
    cdef double least, gain = state[0]
    _needs(frames >= 0 and length > 0, "a block and its length")
    out = np.empty(frames)
    cdef double[::1] result = out
    with nogil:
        for i in range(frames):
            least = 1.0
            for k in range(i, i + length):
                if needed[k] < least:
                    least = needed[k]
            gain += release * (1.0 - gain)
            if least < gain:
                gain = least
            result[i] = gain
    state[0] = gain
    return out


def mean(const double[::1] values, Py_ssize_t length):
    """Mean over the last `length` values."""
    cdef Py_ssize_t frames = values.shape[0] - length + 1, start = 0, count, i, k
    cdef double[TILE] sums
    _needs(frames >= 0 and length > 0, "values and their length")
    out = np.empty(frames)
    cdef double[::1] result = out
    with nogil:
        while start < frames:
            count = min(<Py_ssize_t>TILE, frames - start)
            for i in range(count):
                sums[i] = 0.0
            for k in range(length):
                _add(sums, 1.0, &values[start + k], count)
            for i in range(count):
                result[start + i] = sums[i] / length
            start += TILE
    return out


def smooth(const double[::1] target, double attack, double release, double[::1] state):
    """First-order low-pass whose coefficient is `attack` on the way down and `release` on the way up."""
    cdef Py_ssize_t i
    cdef double gain = state[0]
    out = np.empty(target.shape[0])
    cdef double[::1] result = out
    with nogil:
        for i in range(target.shape[0]):
            gain += (attack if target[i] < gain else release) * (target[i] - gain)
            result[i] = gain
    state[0] = gain
    return out


def average(const double[::1] power, double weight, double[::1] state):
    """First-order low-pass; `state[1]` is its last value."""
    cdef Py_ssize_t i
    cdef double mean = state[1]
    _needs(state.shape[0] > 1, "a block and its state")
    out = np.empty(power.shape[0])
    cdef double[::1] result = out
    with nogil:
        for i in range(power.shape[0]):
            mean += weight * (power[i] - mean)
            result[i] = mean
    state[1] = mean
    return out


def hold_samples(const double[:, ::1] block, double step, double wander, double swing, double[::1] state,
                 double[::1] last):
    """Samples held by a clock of `step` ticks a frame that wanders; `state` is its phase and that of its swing."""
    cdef Py_ssize_t i, c
    _needs(state.shape[0] == 2 and last.shape[0] == block.shape[1], "a block and its state")
    out = np.empty((block.shape[0], block.shape[1]))
    cdef double[:, ::1] result = out
    with nogil:
        for i in range(block.shape[0]):
            if state[0] >= 1.0:
                state[0] -= 1.0
                for c in range(block.shape[1]):
                    last[c] = block[i, c]
            for c in range(block.shape[1]):
                result[i, c] = last[c]
            state[0] += step * (1.0 + wander * sin(state[1]))
            state[1] += swing
    return out
