"""Whether a plug-in is fit to be used, whatever it is for: what every host and every session asks of it.

What is asked is common practice, and has no source; the bounds are ours.
"""

import functools
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from kind_echo.core.audio.source import ArraySource, Samples
from kind_echo.core.registry.names import plain_name
from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.core.signals import SignalDocument, make_request, synthesise
from kind_echo.core.systems.latency import LatencyOptions, measure_latency
from kind_echo.renderers.contract import VARIATIONS, RenderFailed, RenderRequest, RenderResult, Values
from kind_echo.renderers.plugins.model import PluginAbout
from kind_echo.renderers.plugins.offering import offered_parameters, render_file

RATES = (44_100, 48_000, 88_200, 96_000, 176_400, 192_000)
MOST_LOADING_SECONDS = 10.0
MOST_FIRST_BLOCK_SECONDS = 1.0
MOST_LEVEL = 60.0
"""dBFS, of a noise at −20: more is taken for running away."""
MOST_DIFFERENCE = -120.0
"""dBFS, between renders that must be the same: so that the rounding of sums in another order passes."""
MOST_SILENCE = -90.0
"""dBFS, of what comes out once nothing goes in."""
MOST_LATENCY_ERROR = 16.0
"""Samples: so much the phase of a filter, or a gate that opens, adds to a latency that is right."""
MOST_DECAY = 4.0
"""Times as long as a block that sounds, for one in which it fades away."""
RANDOM_SETTINGS = 5
MOST_ENDS = 100
"""Parameters of which both ends are tried."""

NOISE = {"kind": "noise", "color": "pink", "level": -20.0, "seconds": 1.0}
SHORT_NOISE = {"kind": "noise", "color": "pink", "level": -20.0, "seconds": 0.5}
FADING = {"kind": "noise", "color": "pink", "level": -20.0, "seconds": 1.0, "tail": 4.0}
CLICKS = {"kind": "clicks", "level": -12.0, "seconds": 3.0, "lead_in": 0.5}
SILENCE = {"kind": "silence", "seconds": 2.0}

_BLOCK = 512
_QUIET_SECONDS = 0.5
_SETTLED_SECONDS = 0.25


@dataclass(frozen=True)
class Checked:
    """What came of a check: whether it passed, None where it does not apply, and what was seen."""

    key: str
    title: str
    passed: bool | None
    told: str


def end_settings(parameters: Sequence[ParameterDocument]) -> dict[str, Values]:
    """Each parameter at both ends of its range, or at its first and last choice, by the setting's name.

    Args:
        parameters: as a renderer offers them.
    """
    found: dict[str, Values] = {}
    for one in list(parameters)[:MOST_ENDS]:
        ends = (one["choices"][0], one["choices"][-1]) if one.get("choices") else (one["least"], one["greatest"])
        for word, value in zip(("least", "greatest"), ends, strict=True):
            found[f"{plain_name(one['name']) or one['name']} at its {word}"] = {one["name"]: value}
    return found


def random_settings(parameters: Sequence[ParameterDocument]) -> dict[str, Values]:
    """All parameters drawn at once, some times, by a seed: the same plug-in gets the same; bypass is left alone."""
    found = {}
    for number in range(1, RANDOM_SETTINGS + 1):
        drawn = np.random.default_rng(number)
        values = {}
        for one in parameters:
            if one.get("bypass") is not None:
                continue
            if one.get("choices"):
                values[one["name"]] = one["choices"][int(drawn.integers(len(one["choices"])))]
            else:
                value = float(drawn.uniform(one["least"], one["greatest"]))
                values[one["name"]] = float(round(value)) if one.get("stepped") else float(f"{value:.6g}")
        found[f"Drawn {number}"] = values
    return found


def bypass_setting(parameters: Sequence[ParameterDocument]) -> Values | None:
    """The values at which an effect passes on what it is given; None where it has no such parameter."""
    found = {one["name"]: one["bypass"] for one in parameters if one.get("bypass") is not None}
    return found or None


def check_fitness(path: Path, about: PluginAbout, only: Collection[str] | None = None) -> Iterator[Checked]:
    """Check a plug-in, one thing after the other.

    Args:
        only: keys of checks; all unless given.
    """
    checks = _Checks(path, about)
    parameters = offered_parameters(about.parameters)
    bypass = bypass_setting(parameters)
    listed: list[tuple[str, str, Callable[[], _Found]]] = [
        ("loads", f"It loads within {MOST_LOADING_SECONDS:g} s", checks.loads),
        ("first block", "The first block takes no seconds", checks.first_block),
        *((key, _TITLES[key], functools.partial(checks.same, key, what)) for key, what in VARIATIONS.items()),
        ("input", "It only reads what it is given", checks.only_reads),
        ("latency", f"It is as late as it says, to {MOST_LATENCY_ERROR:g} samples", checks.late_as_told),
        ("silence", "Silence in, silence out", checks.silent),
        ("falls silent", "It falls silent after a sound", checks.falls_silent),
        ("decay", "What fades away costs no more than what sounds", checks.decays),
        ("rates", "It renders at every rate", checks.rates),
        ("ends", "Every parameter at both ends is finite and bounded",
         lambda: checks.bounded(end_settings(parameters))),
        ("random", "Parameters drawn at random are finite and bounded",
         lambda: checks.bounded(random_settings(parameters))),
        ("bypass", "Bypassed, it changes no bit", lambda: checks.passes_on(bypass)),
    ]  # fmt: skip
    for key, title, check in listed:
        if only is not None and key not in only:
            continue
        try:
            passed, told = check()
        except RenderFailed as error:
            passed, told = False, error.reason
        yield Checked(key, title, passed, told)


_TITLES = {
    "blocks": "The same render with other block sizes",
    "state": "The same render from a saved state",
    "instances": "Another instance changes nothing",
    "reset": "The same render after a reset",
}

_Found = tuple[bool | None, str]


class _Checks:
    """The checks of one plug-in; a render that fails fails its check, with the reason."""

    def __init__(self, path: Path, about: PluginAbout) -> None:
        self._path, self._about = path, about
        self._channels = min(about.channels)

    def loads(self) -> _Found:
        """It is loaded and renders, in time."""
        return self._within(self._usual.loaded, MOST_LOADING_SECONDS)

    def first_block(self) -> _Found:
        """The first block is no place to allocate for seconds."""
        return self._within(self._usual.first, MOST_FIRST_BLOCK_SECONDS)

    def same(self, key: str, what: str) -> _Found:
        """What comes out is the same, whatever the host does."""
        if key == "state" and not self._about.keeps_state:
            lost = "it keeps no state: a session that is opened again loses what was set"
            return (False if self._about.parameters else None), lost
        other = self._render(NOISE, variation=key, take=2)
        difference = _level(np.abs(other.samples - self._usual.samples).max(initial=0.0))
        return difference <= MOST_DIFFERENCE, f"{_told(difference)} off with {what}"

    def only_reads(self) -> _Found:
        """Its input is as it was."""
        written = self._usual.wrote
        return not written, "it changed samples that it was given" if written else "unchanged, as far as can be seen"

    def late_as_told(self) -> _Found:
        """Hosts take off what it says; where no click can be followed, nothing is said."""
        result = self._render(CLICKS)
        claimed = 0 if result.compensated else result.claimed_latency or 0
        signal = ArraySource(self._signal(CLICKS, 48_000), 48_000)
        readings, _ = measure_latency(signal, ArraySource(result.samples, 48_000), LatencyOptions(claimed))
        error = next(one for one in readings if (one.measure, one.channel) == ("latency_error", "all"))
        if error.value is None:
            return None, f"it cannot be told: {error.why}"
        told = f"{claimed} claimed, {claimed + error.value:.2f} measured"
        return abs(error.value) <= MOST_LATENCY_ERROR, told

    def silent(self) -> _Found:
        """Nothing comes of nothing; what is switched on may take a moment to settle."""
        out = self._render(SILENCE).samples[round(_SETTLED_SECONDS * 48_000) :]
        peak = _level(np.abs(out).max(initial=0.0))
        return bool(np.isfinite(out).all()) and peak <= MOST_SILENCE, f"peak {_told(peak)}"

    def falls_silent(self) -> _Found:
        """Seconds after the end of a sound, nothing is left of it."""
        end = self._fading.samples[-round(_QUIET_SECONDS * 48_000) :]
        peak = _level(np.abs(end).max(initial=0.0))
        return peak <= MOST_SILENCE, f"peak {_told(peak)} after {FADING['tail']} s"

    def decays(self) -> _Found:
        """Denormal numbers, as what fades away leaves in filters, may not cost more."""
        decay = self._fading.decay
        return decay <= MOST_DECAY, f"{decay:.2f} times the time of a block that sounds"

    def rates(self) -> _Found:
        """Every usual rate renders, and is finite."""
        for rate in RATES:
            try:
                samples = self._render(SHORT_NOISE, rate=rate).samples
            except RenderFailed as error:
                return False, f"at {rate} Hz: {error.reason}"
            if not np.isfinite(samples).all():
                return False, f"at {rate} Hz samples are not finite"
        return True, f"{len(RATES)} rates from {RATES[0] / 1000:g} to {RATES[-1] / 1000:g} kHz"

    def bounded(self, settings: Mapping[str, Mapping[str, Any]]) -> _Found:
        """What comes out is finite and of a level that can be."""
        wrong, worst = [], -np.inf
        for name, values in settings.items():
            try:
                samples = self._render(SHORT_NOISE, values).samples
            except RenderFailed as error:
                wrong.append(f"{name}: {error.reason}")
                continue
            peak = _level(np.abs(samples).max(initial=0.0))
            worst = max(worst, peak) if np.isfinite(peak) else worst
            if not np.isfinite(samples).all():
                wrong.append(f"{name}: samples are not finite")
            elif peak > MOST_LEVEL:
                wrong.append(f"{name}: peak {_told(peak)}")
        if wrong:
            return False, f"{len(wrong)} of {len(settings)}: {wrong[0]}"
        return True, f"{len(settings)} settings, peaks up to {_told(worst)}" if settings else "nothing can be set"

    def passes_on(self, bypass: Mapping[str, Any] | None) -> _Found:
        """Bypassed, what goes in comes out, later by its latency at most."""
        if bypass is None:
            return None, "it tells of no bypass"
        result = self._render(NOISE, bypass)
        late = 0 if result.compensated else result.claimed_latency or 0
        signal = self._signal(NOISE, 48_000).astype(np.float32)
        out = result.samples[late:].astype(np.float32)
        same = np.array_equal(out, signal[: len(out)])
        difference = _level(np.abs(out - signal[: len(out)]).max(initial=0.0))
        return same, "every sample the same" if same else f"{_told(difference)} off what went in"

    @staticmethod
    def _within(seconds: float, most: float) -> _Found:
        return seconds <= most, f"{seconds:.3f} s"

    @functools.cached_property
    def _usual(self) -> "_Seen":
        return _Seen.of(self._render(NOISE))

    @functools.cached_property
    def _fading(self) -> "_Seen":
        return _Seen.of(self._render(FADING))

    def _render(
        self, signal: SignalDocument, values: Mapping[str, Any] | None = None, *, rate: int = 48_000, **others: Any
    ) -> RenderResult:
        request = RenderRequest(
            "", "", dict(values or {}), "", "", "offline", rate, _BLOCK, self._signal(signal, rate), **others
        )
        return render_file(self._path, self._about.id, request)

    def _signal(self, signal: SignalDocument, rate: int) -> Samples:
        made = make_request(**signal)
        return np.repeat(synthesise(made, rate), self._channels, axis=1)


@dataclass(frozen=True)
class _Seen:
    """A render, and what its host saw of its blocks."""

    samples: Samples
    loaded: float
    first: float
    decay: float
    wrote: bool | None

    @classmethod
    def of(cls, result: RenderResult) -> "_Seen":
        blocks = result.blocks
        assert blocks is not None
        return cls(result.samples, blocks.loaded, blocks.first, blocks.decay, blocks.wrote_input)


def _level(peak: float) -> float:
    return float(20 * np.log10(peak)) if peak > 0 else -np.inf


def _told(level: float) -> str:
    return "nothing" if level == -np.inf else f"{level:.1f} dBFS".replace("-", "−")
