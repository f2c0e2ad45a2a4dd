"""Sums of steady tones, as chords and squares are: what became of each tells a filter from a gain and a delay."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.smoothing import is_highest
from kind_echo.core.audio.source import Derived, PartSource, Samples, Source, read_padded
from kind_echo.core.audio.transforms import four_term
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.shares import fall
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.undone import Undone

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]


@dataclass(frozen=True)
class JudgingChords:
    """When a filter is told from tones: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        most_frames: from the middle of a file; least_frames of one from which tones are told.
        edge_seconds: at either end, that are left out.
        most_tones: of a reference.
        least_tone: of the power of the loudest, from which a line is looked at.
        line_bins: to either side of a line, which its window widens.
        between: share of the power that lies in no line, over which it is no sum of tones.
        impure: the same once the tones are told to the hertz.
        sure: times the power that noise moves the tones by, that no gain and delay may explain.
        least: of the power of the reference, the same.
        worth_db: by which what is left of the render must fall with its tones told one by one.
        unlike: of what the tones changed by, that may differ between channels.
        reach_seconds: of a delay; late_seconds: over which it is more than the filter's own.
        steps: of a period of the highest tone, in which delays are tried.
        near_best: of the best of these, from which a delay is told finely; most_delays of them.
        as_good: of the best correlation, from which the least delay is taken.
        missed_as_well: times what the best misses of all that tones could give, within which another is as good.
        same: under the best, within which another delay is as good.
        plain_db: that a delay and a gain take off, to be all that changed.
        whole: of a sample, within which a delay is a whole one.
        few: tones, under which nothing beside them tells whether a filter changed them.
        folded_db: by which what folds onto a tone changes it at the least.
        rough: of what they changed by, unlike each other, that the tones beside them may not tell.
        most_gain: factor of a tone.
        least_db: of a tone, under which its phase alone is told.
    """

    most_frames: int = 1 << 15
    least_frames: int = 1 << 13
    edge_seconds: float = 0.02
    most_tones: int = 64
    least_tone: float = 1e-7
    line_bins: int = 4
    between: float = 1e-4
    impure: float = 1e-6
    sure: float = 30.0
    least: float = 1e-9
    worth_db: float = 15.0
    unlike: float = 1e-3
    reach_seconds: float = 0.05
    late_seconds: float = 0.00025
    steps: int = 16
    near_best: float = 0.97
    most_delays: int = 128
    as_good: float = 0.9995
    missed_as_well: float = 10.0
    same: float = 1e-7
    plain_db: float = 20.0
    whole: float = 2e-3
    few: int = 8
    folded_db: float = 6.0
    rough: float = 0.5
    most_gain: float = 30.0
    least_db: float = 0.002


CHORDS = JudgingChords()


@dataclass(frozen=True)
class OtherTones(Derived):
    """A reference whose tones are changed: complex amplitudes of what is added, at frame 0; shape (tones, channels)."""

    hertz: tuple[float, ...]
    added: Complexes

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        out = self.source.read(start, stop).copy()
        times = np.arange(start, stop) / self.rate
        for hertz, amplitude in zip(self.hertz, self.added, strict=True):
            out += (np.exp(2j * np.pi * hertz * times)[:, None] * amplitude).real
        return out


def find_change_of_tones(reference: Source, render: Source, *, plain: bool) -> Undone | None:
    """A filter that changed some tones of a reference more than others; None for none, and where there are no tones.

    Args:
        plain: tell a delay and a gain that all tones have in common as well.
    """
    frames = min(reference.frames, render.frames)
    edge = min(round(CHORDS.edge_seconds * reference.rate), frames // 8)
    size = min(CHORDS.most_frames, frames - 2 * edge)
    if size < CHORDS.least_frames:
        return None
    lo = (frames - size) // 2
    x, y = (read_padded(side, lo, lo + size) for side in (reference, render))
    hertz = _tones_of(x, reference.rate)
    if hertz is None:
        return None
    times = np.arange(lo, lo + size) / reference.rate
    basis = _basis(hertz, times)
    mine, theirs = (_amplitudes(basis, side) for side in (x, y))
    left = [float(np.square(side - basis @ _columns(a)).sum()) for side, a in ((x, mine), (y, theirs))]
    if left[0] > CHORDS.impure * float(np.square(x).sum()):
        return None
    causes = _told(hertz, mine, theirs, 2 * left[1] / size, reference.rate, plain=plain)
    if causes is None:
        return None
    changed = OtherTones(reference, hertz, theirs - mine)
    weights = np.square(np.abs(mine)).sum(axis=1)
    _, period = _least_delay(2 * np.pi * np.array(hertz), weights * _ratios(mine, theirs))
    return Undone(
        causes,
        PartSource(changed, edge, frames - edge),
        PartSource(render, edge, frames - edge),
        off=causes[0].takes_off or 0.0,
        period=None if period is None else period * reference.rate,
    )


def _ratios(mine: Complexes, theirs: Complexes) -> Complexes:
    """What became of each tone, over the channels; shape (tones,)."""
    return np.asarray((theirs * np.conj(mine)).sum(axis=1) / np.square(np.abs(mine)).sum(axis=1))


def _told(
    hertz: tuple[float, ...], mine: Complexes, theirs: Complexes, noise: float, rate: int, *, plain: bool
) -> list[Cause] | None:
    """A filter, and a delay before it; where a gain and a delay are enough these if they are plainly so, else None.

    Args:
        mine, theirs: complex amplitudes; shape (tones, channels).
        noise: power of what is no tone in the render, as of a tone's amplitude.
    """
    weights = np.square(np.abs(mine)).sum(axis=1)
    ratios = _ratios(mine, theirs)
    changed = float(np.square(np.abs(theirs - mine)).sum())
    if float(np.square(np.abs(theirs - ratios[:, None] * mine)).sum()) > CHORDS.unlike * changed:
        return None  # each channel has a change of its own
    omega = 2 * np.pi * np.array(hertz)
    late, period = _least_delay(omega, weights * ratios)
    turned = ratios * np.exp(1j * omega * late)
    factor = float((weights * turned).sum().real / weights.sum())
    beside = float((weights * np.square(np.abs(turned - factor))).sum())
    # Each tone's amplitude is known to the noise in its own bin alone.
    tone_noise = noise * len(hertz) / CHORDS.most_frames
    if beside < max(CHORDS.sure * tone_noise, CHORDS.least * float(weights.sum())):
        off = fall(changed + noise, beside + noise)
        return _plain(late * rate, None if period is None else period * rate, factor, off) if plain else None
    off = fall(beside + noise, noise)
    if off < CHORDS.worth_db:
        return None
    if not _is_smooth(hertz, weights, ratios):
        return None
    causes = []
    if abs(late) < CHORDS.late_seconds:
        turned, late = ratios, 0.0
    else:
        whole = round(late * rate)
        turned = ratios * np.exp(1j * omega * whole / rate)
        causes.append(Cause("delay", amount=float(whole), unit="samples"))
    if complex((weights * turned).sum()).real < 0.0:
        causes.append(Cause("polarity"))
        turned = -turned
    return [_filter(hertz, turned, off), *causes]


def _plain(late: float, period: float | None, factor: float, off: float) -> list[Cause] | None:
    """A delay in samples, a polarity and a gain that all tones have in common; None for none, or one that is little."""
    if off < CHORDS.plain_db:
        return None
    causes = []
    late = float(round(late)) if abs(late - round(late)) < CHORDS.whole else late
    if late:
        why = None if period is None else f"or any whole periods of {number(period, ',.1f')} samples more"
        causes.append(Cause("delay", amount=late, unit="samples", takes_off=off, why=why))
    if factor < 0.0:
        causes.append(Cause("polarity"))
    gain = 20 * np.log10(max(abs(factor), 1e-12))
    if abs(gain) >= CHORDS.least_db:
        causes.append(Cause("gain", amount=float(gain), unit="dB"))
    return causes or None


def _is_smooth(hertz: tuple[float, ...], weights: Floats, ratios: Complexes) -> bool:
    """Whether the tones beside a tone tell what becomes of it, as with a filter, and not with what folds onto it."""
    most = float(np.abs(20 * np.log10(np.maximum(np.abs(ratios), 1e-12))).max())
    if len(hertz) < CHORDS.few or most < CHORDS.folded_db:
        return True
    order = np.argsort(hertz)
    f, h, w = np.log(np.array(hertz)[order]), ratios[order], weights[order]
    share = (f[1:-1] - f[:-2]) / (f[2:] - f[:-2])
    off = h[1:-1] - (h[:-2] * (1 - share) + h[2:] * share)
    moved = float((w[1:-1] * np.square(np.abs(h[1:-1] - h[1:-1].mean()))).sum())
    return float((w[1:-1] * np.square(np.abs(off))).sum()) <= CHORDS.rough * moved and bool(
        (np.abs(h) < CHORDS.most_gain).all()
    )


def _filter(hertz: tuple[float, ...], ratios: Complexes, off: float) -> Cause:
    levels, degrees = 20 * np.log10(np.maximum(np.abs(ratios), 1e-12)), np.degrees(np.angle(ratios))
    most, least = int(np.abs(levels).argmax()), int(np.abs(levels).argmin())
    if abs(levels[most]) < CHORDS.least_db:
        most = int(np.abs(degrees).argmax())
        why = f"of {len(hertz)} tones the phase alone, by {number(degrees[most], '+.2f')}° at {hertz[most]:.0f} Hz"
        return Cause("filter", amount=0.0, unit="dB", takes_off=off, why=why)
    low, high = (f"{number(levels[k], '+.2f')} dB at {number(hertz[k], ',.0f')} Hz" for k in (least, most))
    why = f"{high}, {low}: of {len(hertz)} tones"
    return Cause("filter", amount=float(levels[most]), unit="dB", takes_off=off, why=why)


def _least_delay(omega: Floats, products: Complexes) -> tuple[float, float | None]:
    """The least delay, in seconds, of those at which tones come nearest to a real factor, upright or inverted.

    And after how long another is as good; None for no other.
    """
    step = 2 * np.pi / (CHORDS.steps * float(omega.max()))
    count = round(CHORDS.reach_seconds / step)
    lags = step * np.arange(-count, count + 1)
    met = np.abs((np.exp(1j * np.outer(lags, omega)) @ products).real)
    tops = np.flatnonzero(is_highest(met, 1) & (met >= CHORDS.near_best * met.max()))
    tops = tops[np.abs(lags[tops]).argsort()][: CHORDS.most_delays]
    found = [_at_best(float(lags[top]), omega, products) for top in tops]
    best = max(each for _, each in found)
    missed = 1.0 - best / float(np.abs(products).sum())
    as_good = max(CHORDS.as_good, 1.0 - CHORDS.missed_as_well * max(missed, CHORDS.same))
    least = min((late for late, each in found if each >= as_good * best), key=abs)
    others = [
        abs(late - least) for late, each in found if each >= (1 - CHORDS.same) * best and abs(late - least) > step
    ]
    return least, min(others, default=None)


def _at_best(late: float, omega: Floats, products: Complexes) -> tuple[float, float]:
    """The delay near one at which tones are nearest to a real factor, by steps of Newton's kind; how near they are."""
    for _ in range(20):
        turned = products * np.exp(1j * omega * late)
        slope, bend = float((1j * omega * turned).sum().real), float((-np.square(omega) * turned).sum().real)
        if bend * float(turned.sum().real) >= 0.0:
            break
        late -= slope / bend
    return late, abs(float((products * np.exp(1j * omega * late)).sum().real))


def _tones_of(x: Floats, rate: int) -> tuple[float, ...] | None:
    """Frequencies of the tones that a sound is the sum of; None where it is no sum of a few, or one alone."""
    size = len(x)
    window = four_term(size)[:, None]
    power = np.square(np.abs(fft.rfft(x * window, axis=0))).sum(axis=1)
    tops = np.flatnonzero(is_highest(power, CHORDS.line_bins) & (power > CHORDS.least_tone * power.max()))
    tops = tops[(tops > CHORDS.line_bins) & (tops < len(power) - CHORDS.line_bins)]
    if not 2 <= len(tops) <= CHORDS.most_tones:
        return None
    inside = np.zeros(len(power), bool)
    for top in tops.tolist():
        inside[top - CHORDS.line_bins : top + CHORDS.line_bins + 1] = True
    if float(power[~inside].sum()) > CHORDS.between * float(power.sum()):
        return None
    channel = int(np.square(x).sum(axis=0).argmax())
    return _refined(tops * rate / size, x[:, channel], rate)


def _refined(hertz: Floats, x: Floats, rate: int) -> tuple[float, ...]:
    """Frequencies by steps of Gauss and Newton, all tones at once."""
    times = (np.arange(len(x)) - (len(x) - 1) / 2) / rate
    scale = len(x) / rate  # so that all columns are of one size
    for _ in range(4):
        basis = _basis(hertz, times)
        count = len(hertz)
        found = np.linalg.lstsq(basis.T @ basis, basis.T @ x, rcond=None)[0]
        cosines, sines = found[:count], found[count:]
        # d/df of a·cos(2πft) + b·sin(2πft), in steps of a bin
        slopes = 2 * np.pi * (times / scale)[:, None] * (sines * basis[:, :count] - cosines * basis[:, count:])
        columns = np.concatenate([basis, slopes], axis=1)
        step = np.linalg.lstsq(columns.T @ columns, columns.T @ x, rcond=None)[0][2 * count :]
        hertz = hertz + np.clip(step, -1.0, 1.0) / scale
    return tuple(hertz.tolist())


def _basis(hertz: Floats | tuple[float, ...], times: Floats) -> Floats:
    """Cosines of all tones, then sines; shape (frames, 2·tones)."""
    turn = 2 * np.pi * np.outer(times, np.asarray(hertz))
    return np.concatenate([np.cos(turn), np.sin(turn)], axis=1)


def _amplitudes(basis: Floats, x: Floats) -> Complexes:
    """Of Re(a·exp(iωt)), by least squares; shape (tones, channels)."""
    found = np.linalg.lstsq(basis.T @ basis, basis.T @ x, rcond=None)[0]
    count = len(found) // 2
    return np.asarray(found[:count] - 1j * found[count:])


def _columns(amplitudes: Complexes) -> Floats:
    return np.concatenate([amplitudes.real, -amplitudes.imag])
