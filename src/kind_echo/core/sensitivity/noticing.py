"""Whether a check would notice that an approved render was changed: in full, and by a short cut that says the same."""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from kind_echo.core.audio.align import AlignedSource, Alignment, rows_of_pair
from kind_echo.core.audio.source import ArraySource, Samples, Source
from kind_echo.core.comparison.account import STEPS
from kind_echo.core.comparison.clicks import clicks_among
from kind_echo.core.comparison.compare import compare, compare_as_it_is
from kind_echo.core.comparison.identical import readings_of_identical
from kind_echo.core.comparison.pair import CompareOptions, Comparison
from kind_echo.core.comparison.swapping import find_swap
from kind_echo.core.levels.analysis import FileScan, scan_file
from kind_echo.core.levels.integrity import (
    Gap,
    GapFinder,
    channel_missing,
    click_readings,
    find_clicks,
    gap_readings,
    lead_in_excess,
)
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.readings import Reading, for_channels, level
from kind_echo.core.verdicts.rules import allowing_takes, judge_cell
from kind_echo.core.verdicts.verdict import Verdict

Own = Callable[[Source, float], list[Reading]]
"""What is read of a render beside its signal, where the latency that is claimed is off by so many samples."""

_Compare = Callable[[Source, Source, CompareOptions], Comparison]

_OF_A_PAIR = (
    "residual_rms", "residual_peak", "gaps", "clicks", "channel_swap", "channel_missing", "lead_in_excess",
    "length_difference",
)  # fmt: skip
"""What the short cut measures of a pair."""
_BY_BOUNDS = ("gain", "delay", "delay_time", "polarity")
"""What a small residual bounds."""
_NEXT_TO_NOTHING = 1e-9  # FS of noise: −180 dBFS
_MOVED_SAMPLES = 0.5  # samples, from which a comparison lines the render up otherwise
_SMALL_SHARE = 0.1  # of the reference, up to which the residual bounds gain and delay
_HALF_SHARE = 0.5  # likewise, polarity


@dataclass(frozen=True)
class Approved:
    """A render that is approved, and how it is judged.

    Attributes:
        samples: shape (frames, channels).
        limits: by measure.
        options: how it is compared.
        against: what it is compared with, shape (frames, channels); None for itself, as an approved render is.
        own: what is read of a render beside its signal; None where only levels and integrity are.
        take_spread: dBFS, of its takes; None of a single one.
    """

    samples: Samples
    rate: int
    limits: Mapping[str, Limit]
    own: Own | None = None
    take_spread: float | None = None
    options: CompareOptions = field(default_factory=CompareOptions)
    against: Samples | None = None


@dataclass(frozen=True)
class Baseline:
    """How an approved render is judged as it is.

    Attributes:
        broken: limits that it breaks already.
        limits: those that are left to judge a change by: the others break already, or have no value for this sound.
    """

    broken: tuple[str, ...]
    limits: Mapping[str, Limit]


@dataclass
class Noticer:
    """Judges changes of one approved render."""

    approved: Approved
    baseline: Baseline = field(init=False)

    def __post_init__(self) -> None:
        approved = self.approved
        other = approved.samples if approved.against is None else approved.against
        self._source = ArraySource(other, approved.rate)
        self._scan = scan_file(self._source)
        self._power = float(np.mean(approved.samples**2))
        steps = np.diff(approved.samples, axis=0)
        self._step_power = float(np.mean(steps**2)) if len(steps) else 0.0
        self.baseline = self._as_it_is()
        self._held = allowing_takes(self.baseline.limits, self._takes())
        own = {r.measure for r in self._of_file(self._scan, self._source)}
        pair = {key for key in self._held if find_measure(key).needs == "pair"} - set(_OF_A_PAIR)
        self._bounded = [key for key in pair if key in _BY_BOUNDS]
        self._only_in_full = bool(pair - set(_BY_BOUNDS))
        beside = [key for key in self._held if find_measure(key).needs != "pair" and key not in own]
        self._needs_signal = approved.own is not None and bool(beside)

    def notices(self, changed: Samples, moved: float = 0.0, claim: float = 0.0) -> str | None:
        """The measure by which a change is noticed; None where it passes.

        Args:
            moved: samples by which the change moves sound at most.
            claim: samples by which the latency that is claimed is off.
        """
        if claim == 0.0:
            is_over = self.over_residual(changed) > 0.0
            if is_over and moved < _MOVED_SAMPLES:
                return "residual_rms"
            if is_over or moved >= _MOVED_SAMPLES or self._is_large(changed):
                return self._noticed(changed, claim)
            found = self._by_short_cut(changed) if self.approved.against is None else self._unfit(changed)
            if found is not None:
                return found
        return self._beside_signal(changed, claim) if self._needs_signal else None

    @property
    def hears_claims(self) -> bool:
        """Whether a latency that is claimed is judged at all."""
        return self._needs_signal and any(find_measure(key).family == "latency" for key in self._held)

    def over_residual(self, changed: Samples) -> float:
        """By how many decibels what is left between the two is over its limit.

        −inf where there is no limit, or nothing is left; and where the render is compared with something else.
        """
        if self.approved.against is not None:
            return -math.inf
        limit = self._held.get("residual_rms")
        power = 2 * float(np.mean((changed - self.approved.samples) ** 2))
        if limit is None or limit.at_most is None or power == 0.0:
            return -math.inf
        return 10 * math.log10(power) - limit.at_most

    def in_full(self, changed: Samples, claim: float = 0.0) -> str | None:
        """As `notices`, with all that a run measures."""
        return _noticed(self._judged(*self._read(changed, claim, compare, True), self.baseline.limits))

    def _as_judged(self, reference: Source, render: Source, options: CompareOptions) -> Comparison:
        """All that limits are held to: what explains the difference only where one is for a step of its account."""
        return compare_as_it_is(reference, render, options, account=not self.approved.limits.keys().isdisjoint(STEPS))

    def _noticed(self, changed: Samples, claim: float) -> str | None:
        own, found = self._read(changed, claim, self._as_judged, self._needs_signal)
        return _noticed(self._judged(own, found, self.baseline.limits))

    def _read(
        self, changed: Samples, claim: float, by: _Compare, beside_signal: bool
    ) -> tuple[list[Reading], list[Reading]]:
        """Readings of a changed render by itself, and against the approved one; beside its signal if that is asked."""
        render = ArraySource(changed, self.approved.rate)
        if np.array_equal(changed, self._source.samples):
            found, scan = readings_of_identical(self._source).readings, self._scan
        else:
            comparison = by(self._source, render, self.approved.options)
            found = comparison.readings
            assert comparison.sides is not None
            scan = comparison.sides[1]
        own = [*self._of_file(scan, render), *self._takes()]
        if self.approved.own is not None and beside_signal:
            own += self.approved.own(render, claim)
        # Its length and its lead-in make a render unfit, and are told against the reference.
        told = {(r.measure, r.channel) for r in own}
        own += [r for r in found if r.of.unfit and (r.measure, r.channel) not in told]
        return own, found

    def _judged(self, own: Sequence[Reading], found: Sequence[Reading], limits: Mapping[str, Limit]) -> Verdict:
        verdict = judge_cell(own, found, limits)
        if verdict.ground == "identical":
            alone = {key: one for key, one in limits.items() if find_measure(key).needs != "pair"}
            verdict = judge_cell(own, None, alone)
        return verdict

    def _as_it_is(self) -> Baseline:
        """The limits that a change of next to nothing leaves in force: what has no value then never has any."""
        drawn = np.random.default_rng(1).uniform(-1.0, 1.0, self.approved.samples.shape)
        limits = dict(self.approved.limits)
        broken: list[str] = []
        own, read = self._read(self.approved.samples + _NEXT_TO_NOTHING * drawn, 0.0, self._as_judged, True)
        while True:
            verdict = self._judged(own, read, limits)
            out = [found.reading.measure for found in verdict.found]
            if verdict.name not in ("Fail", "No reading"):
                break
            if verdict.name == "Fail":
                broken += out
            if not set(out) & set(limits):
                limits = {}  # it is unfit, whatever its limits
                break
            limits = {key: one for key, one in limits.items() if key not in out}
        return Baseline(tuple(broken), limits)

    def _takes(self) -> list[Reading]:
        spread = self.approved.take_spread
        return [] if spread is None else [Reading("take_spread", "all", spread)]

    def _of_file(self, scan: FileScan, render: Source) -> list[Reading]:
        excess = lead_in_excess(self._scan.integrity, scan.integrity, [0.0] * render.channels) if scan.finite else []
        length = float(render.frames - self._source.frames)
        return [*scan.readings, *excess, *for_channels("length_difference", [length] * render.channels, length)]

    def _is_large(self, changed: Samples) -> bool:
        """Whether gain and delay must be measured: what is left does not hold them within their limits."""
        if self._only_in_full:
            return True
        if self.approved.against is not None:
            return any(find_measure(key).needs == "pair" for key in self._held)
        power = float(np.mean((changed - self.approved.samples) ** 2))
        if not self._bounded or power == 0.0:
            return False
        share = math.sqrt(power / self._power) if self._power else 1.0
        # What is less than half of the sound turns none of it over, by the inequality of Cauchy and Schwarz.
        if share > _HALF_SHARE or (self._bounded != ["polarity"] and (share > _SMALL_SHARE or not self._step_power)):
            return True
        if self._bounded == ["polarity"]:
            return False
        late = math.sqrt(power / self._step_power)
        bounds = {
            "gain": -20 * math.log10(1 - share), "polarity": 0.0, "delay": late,
            "delay_time": 1000 * late / self.approved.rate,
        }  # fmt: skip
        return any(bounds[key] >= _nearest(self._held[key]) for key in self._bounded if key != "polarity")

    def _by_short_cut(self, changed: Samples) -> str | None:
        """Of a change that leaves little: all that is limited, without delay, gain and causes."""
        x, render = self._source, ArraySource(changed, self.approved.rate)
        scan = scan_file(render)
        aligned = AlignedSource(render, x.frames, Alignment())
        gaps, cross = GapFinder(x.channels, x.rate), np.zeros((x.channels, x.channels))
        for start, a, b in rows_of_pair(x, aligned):
            gaps.add(start, a, b)
            cross += a @ b.T
        found = gaps.gaps()
        apart = changed - self.approved.samples
        readings = [
            level("residual_rms", "all", 2 * float(np.mean(apart**2)), power=True, residual=True),
            level("residual_peak", "all", float(np.abs(apart).max(initial=0.0)), power=False, residual=True),
            *gap_readings(found, x.channels),
            *channel_missing(self._scan.integrity, scan.integrity),
            *find_swap(x, render, 0, cross, ((self.approved.samples**2).sum(axis=0), (changed**2).sum(axis=0))),
            *lead_in_excess(self._scan.integrity, scan.integrity, [0.0] * x.channels, found),
            *self._clicks(aligned, found),
        ]
        own = [*self._of_file(scan, render), *self._takes()]
        known = {r.measure for r in (*readings, *own)}
        limits = {key: one for key, one in self.baseline.limits.items() if key in known}
        return _noticed(judge_cell(own, readings, limits))

    def _unfit(self, changed: Samples) -> str | None:
        """Of a render that nothing is compared with: what is read of it by itself."""
        render = ArraySource(changed, self.approved.rate)
        own = self._of_file(scan_file(render), render)
        known = {r.measure for r in own}
        limits = {key: one for key, one in self.baseline.limits.items() if key in known}
        return _noticed(judge_cell(own, None, limits))

    def _clicks(self, aligned: AlignedSource, gaps: list[Gap]) -> list[Reading]:
        x = self._source
        return click_readings(clicks_among(find_clicks(x, aligned, 1.0), gaps, x, aligned, 1.0), x.rate)

    def _beside_signal(self, changed: Samples, claim: float) -> str | None:
        assert self.approved.own is not None
        readings = self.approved.own(ArraySource(changed, self.approved.rate), claim)
        broken = [
            r.measure for r in readings
            if r.channel == "all" and r.measure in self._held and judge(r, self._held[r.measure]) != "met"
        ]  # fmt: skip
        return broken[0] if broken else None


def _noticed(verdict: Verdict) -> str | None:
    if verdict.name not in ("Fail", "No reading"):
        return None
    return verdict.found[0].reading.measure if verdict.found else verdict.ground


def _nearest(limit: Limit) -> float:
    """How far from nothing the nearer bound of a limit lies."""
    return min(abs(bound) for bound in (limit.at_least, limit.at_most) if bound is not None)
