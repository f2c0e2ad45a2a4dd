"""What explains a difference: the residual after each step is taken off, one on top of the other."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.align import AlignedSource, Alignment, overlap, rows_of_pair
from kind_echo.core.readings import Reading, level
from kind_echo.core.source import Source, as_rows, read_padded
from kind_echo.core.transforms import fast_length

Floats = NDArray[np.float64]

STEPS = (
    "account_raw", "account_delay", "account_polarity", "account_gain",
    "account_fraction", "account_filter", "account_remainder",
)  # fmt: skip

_BEFORE_SECONDS, _AFTER_SECONDS = 0.005, 0.035  # reach of the filter before and after its main tap
_LEAST_BLOCKS = 4
_MOST_FRAMES = 1 << 17  # that the filter is fitted on and judged on; of longer files blocks are spread over it
_BLOCK = 1 << 15
_MOST_CORRECTIONS = 12
_WORTHWHILE = 0.9  # of the power that is left before a correction
_SOLVED = 1e-12  # of the power of the right side; the corrections take off the rest
_RIDGE = 1e-11  # of the mean power: keeps bands in which the reference has nothing from growing
_NULL = "the residual is digital silence"


def power_left(reference: Source, aligned: AlignedSource) -> Floats:
    """Mean square of render − reference over their overlap, by channel; 0 where there is none."""
    total, frames = np.zeros(reference.channels), 0
    for _, x, y in rows_of_pair(reference, aligned):
        difference = y - x
        total += np.einsum("cf,cf->c", difference, difference)
        frames += x.shape[1]
    return total / max(1, frames)


@dataclass(frozen=True)
class Account:
    """Powers of the residual after each step, at the reference's level; shape (steps, channels)."""

    powers: Floats

    def readings(self) -> list[Reading]:
        """The seven steps, in dBFS (AES17): all channels pooled, then each."""
        found = []
        for key, row in zip(STEPS, self.powers, strict=True):
            named = [("all", float(row.mean())), *((str(c + 1), float(p)) for c, p in enumerate(row))]
            found += [level(key, name, 2 * power, power=True, silence=_NULL) for name, power in named]
        return found


def explain(steps: list[Floats], filtered: Floats | None) -> Account:
    """Complete the steps that were measured: a step that does not apply leaves the value as it was.

    Args:
        steps: power by channel of the raw residual, and with delay, polarity, gain and fraction off.
        filtered: power by channel that the best linear filter leaves, at the reference's level; None for no filter.
    """
    raw, delay, polarity, gain, fraction = steps
    polarity = np.minimum(polarity, delay) if polarity.mean() <= delay.mean() else delay
    gain = gain if gain.mean() < polarity.mean() else polarity
    fraction = fraction if fraction.mean() < gain.mean() else gain
    last = fraction
    if filtered is not None and filtered.mean() < fraction.mean():
        last = filtered
    rows = np.array([raw, delay, polarity, gain, fraction, last])
    least = rows[rows.mean(axis=1).argmin()]
    return Account(np.concatenate([rows, least[None]]))


def filter_residual(reference: Source, render: Source, shift: int) -> Floats | None:
    """Power of the render, by channel, that the best linear filter from reference to render leaves unexplained.

    Fitted on every other block and judged on the others, and the other way round, so that it cannot flatter itself.
    The normal equations are solved by conjugate gradients on the Toeplitz matrix, again and again on what is left.

    Args:
        shift: whole samples by which the render is later.
    Returns:
        Shape (channels,); None for a file too short for the filter.
    """
    aligned = AlignedSource(render, reference.frames, Alignment(shift))
    lo, hi = overlap(reference, aligned)
    before = round(_BEFORE_SECONDS * reference.rate)
    after = fast_length(before + round(_AFTER_SECONDS * reference.rate) + 1) - 1 - before
    spans = _spans(lo, hi, before + after)
    if spans is None:
        return None
    x = np.stack([as_rows(read_padded(reference, a - after, b + before)) for a, b in spans], axis=1)
    y = np.stack([as_rows(read_padded(render, a + shift, b + shift)) for a, b in spans], axis=1)

    def left(channel: int) -> float:
        power, folds = 0.0, [_Fold.of(x[channel, fold::2], y[channel, fold::2]) for fold in (0, 1)]
        for fitted, judged in (folds, folds[::-1]):
            power += float(np.square(judged.error(_fit(fitted, before + after + 1))).sum())
        return power / float(y[channel].size)

    with ThreadPoolExecutor(2) as pool:
        return np.array(list(pool.map(left, range(reference.channels))))


def _spans(lo: int, hi: int, reach: int) -> list[tuple[int, int]] | None:
    """Blocks that the overlap is cut into, an even number of equal length; None where it is too short."""
    size = min(_BLOCK, (hi - lo) // _LEAST_BLOCKS)
    if size < 2 * reach:
        return None
    whole = (hi - lo) // size // 2 * 2
    wanted = min(whole, _MOST_FRAMES // size // 2 * 2)
    index = np.linspace(0, whole / 2 - 1, wanted // 2).astype(int)
    starts = sorted({int(lo + k * size) for i in index for k in (2 * i, 2 * i + 1)})
    return [(start, start + size) for start in starts]


@dataclass(frozen=True)
class _Fold:
    """Blocks of one channel, a row each: y, and x with its spectrum, which reaches beyond y by the filter's length."""

    x: Floats
    y: Floats
    spectrum: NDArray[np.complex128]

    @staticmethod
    def of(x: Floats, y: Floats) -> "_Fold":
        return _Fold(x, y, fft.rfft(x, fast_length(x.shape[1])))

    @property
    def size(self) -> int:
        """Length of the transforms: that of x, for what is used of a product does not wrap around."""
        return fast_length(self.x.shape[1])

    def error(self, taps: Floats) -> Floats:
        """What of y the filter does not explain."""
        product = fft.irfft(self.spectrum * fft.rfft(taps, self.size), self.size)
        return np.asarray(self.y - product[:, len(taps) - 1 : self.x.shape[1]])

    def cross(self, error: Floats, taps: int) -> Floats:
        """For each tap the sum of what it sees times the error; tap 0 meets the latest sample that the filter sees."""
        products = (self.spectrum * np.conj(fft.rfft(error, self.size))).sum(axis=0)
        return np.asarray(fft.irfft(products, self.size)[:taps][::-1])

    def auto(self, taps: int) -> Floats:
        """Autocorrelation of x at the first lags, mean of that from either end of the blocks."""
        early = fft.rfft(self.x[:, : self.y.shape[1]], self.size)
        late = fft.rfft(np.concatenate([np.zeros((len(self.x), taps - 1)), self.x[:, taps - 1 :]], axis=1), self.size)
        own = (self.spectrum * np.conj(early) + np.conj(self.spectrum) * late).sum(axis=0)
        return np.asarray(0.5 * fft.irfft(own, self.size)[:taps])


def _fit(fold: _Fold, taps: int) -> Floats:
    """Least-squares filter from x to y."""
    auto = fold.auto(taps)
    solution, error = np.zeros(taps), fold.y
    if auto[0] <= 0.0:
        return solution
    auto[0] *= 1.0 + _RIDGE
    power = float(np.square(error).sum())
    # The Toeplitz matrix stands for the true one up to what happens at block edges: corrections take that off.
    for _ in range(_MOST_CORRECTIONS):
        better = solution + _solve_toeplitz(auto, fold.cross(error, taps))
        error = fold.error(better)
        before, power = power, float(np.square(error).sum())
        if power >= before:
            break
        solution = better
        if power > _WORTHWHILE * before:
            break
    return solution


def _solve_toeplitz(auto: Floats, cross: Floats) -> Floats:
    """Conjugate gradients with G. Strang's circulant preconditioner (Stud. Appl. Math. 74, 1986)."""
    n = len(auto)
    size = fast_length(2 * n)
    ring = np.zeros(size)
    ring[:n] = auto
    ring[-(n - 1) :] = auto[1:][::-1]
    matrix = fft.rfft(ring)
    half = n // 2
    column = auto.copy()
    column[half + 1 :] = auto[1 : n - half][::-1]
    shape = np.maximum(fft.rfft(column).real, _RIDGE * auto[0])

    def times(v: Floats) -> Floats:
        return np.asarray(fft.irfft(matrix * fft.rfft(v, size), size)[:n])

    solution, residual = np.zeros(n), cross.copy()
    goal = _SOLVED * float(cross @ cross)
    z = fft.irfft(fft.rfft(residual) / shape, n)
    direction, weight = z.copy(), float(residual @ z)
    for _ in range(120):
        turned = times(direction)
        bend = float(direction @ turned)
        if bend <= 0.0 or weight <= 0.0:
            break
        step = weight / bend
        solution += step * direction
        residual -= step * turned
        if float(residual @ residual) <= goal:
            break
        z = fft.irfft(fft.rfft(residual) / shape, n)
        following = float(residual @ z)
        direction = z + following / weight * direction
        weight = following
    return solution
