"""Work in hops of a fixed length, however long the blocks are that a host feeds: the same bits for any block size."""

from collections.abc import Callable

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_echo.core.audio.source import Samples

Work = Callable[[Samples], Samples]
Gains = Callable[[NDArray[np.complex128]], NDArray[np.float64]]


class Hops:
    """Gathers blocks to hops, does the work on each, and gives as many frames as it got; delays by one hop."""

    def __init__(self, hop: int, channels: int, work: Work) -> None:
        self._hop, self._work = hop, work
        self._coming = np.zeros((0, channels))
        self._ready = np.zeros((hop, channels))

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        self._coming = np.concatenate([self._coming, block])
        done = [self._ready]
        whole = len(self._coming) // self._hop * self._hop
        for start in range(0, whole, self._hop):
            done.append(self._work(self._coming[start : start + self._hop]))
        self._coming = self._coming[whole:]
        ready = np.concatenate(done)
        self._ready = ready[len(block) :]
        return ready[: len(block)]


class Convolver:
    """Convolves hops with taps, by overlap-save."""

    def __init__(self, taps: NDArray[np.float64], hop: int, channels: int) -> None:
        self._size = scipy.fft.next_fast_len(hop + len(taps) - 1, real=True)
        self._spectrum = scipy.fft.rfft(taps, self._size)[:, None]
        self._history = np.zeros((len(taps) - 1, channels))

    def work(self, hop: Samples) -> Samples:
        """The next hop, convolved."""
        extended = np.concatenate([self._history, hop])
        self._history = extended[len(hop) :]
        product = scipy.fft.rfft(extended, self._size, axis=0) * self._spectrum
        start = len(extended) - len(hop)
        return np.asarray(scipy.fft.irfft(product, self._size, axis=0)[start : len(extended)])


class Spectral:
    """Changes short-time spectra by gains, four frames across each other; delays by one frame in Hops.

    With all gains at 1 it is a plain delay: squared sine windows a quarter apart add up to 2.
    """

    def __init__(self, frame: int, channels: int, gains: Gains) -> None:
        self.hop = frame // 4
        self._gains, self._frame = gains, self.hop * 4
        self._window = np.sin(np.pi * np.arange(self._frame) / self._frame)[:, None]
        self._heard = np.zeros((self._frame, channels))
        self._sum = np.zeros((self._frame, channels))

    def work(self, hop: Samples) -> Samples:
        """The hop that is complete."""
        self._heard = np.concatenate([self._heard[self.hop :], hop])
        spectra = scipy.fft.rfft(self._heard * self._window, axis=0)
        changed = scipy.fft.irfft(spectra * self._gains(spectra), self._frame, axis=0) * self._window / 2.0
        total = self._sum + changed
        self._sum = np.concatenate([total[self.hop :], np.zeros_like(hop)])
        return np.asarray(total[: self.hop])
