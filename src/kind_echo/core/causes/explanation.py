"""Which causes explain a difference: each is undone, or predicted where it was not fitted, before it is named.

The stages are frozen values: a pair and what is known of it, lined up in excerpts (`lineup.py`), its models fitted
(`fitting.py`), the causes named (`naming.py`).
"""

from concurrent.futures import Executor

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import Aligner
from kind_echo.core.audio.source import Source
from kind_echo.core.causes import naming
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.events import clicks_left, gaps_left
from kind_echo.core.causes.excerpts import best_gain
from kind_echo.core.causes.explained import ComparedFacts, Explained
from kind_echo.core.causes.filtering import fit_filter
from kind_echo.core.causes.fitting import Fitted, fit, fit_without_delay
from kind_echo.core.causes.lineup import Pair, line_up
from kind_echo.core.causes.noisy_takes import explain_noisy
from kind_echo.core.causes.plain import length_cause, plain_causes
from kind_echo.core.causes.shares import by_share, fall
from kind_echo.core.causes.thresholds import NAMING

Floats = NDArray[np.float64]


def explain(reference: Source, lay: Aligner, known: ComparedFacts, pool: Executor) -> Explained:
    """The causes of a difference, those that explain most first."""
    pair = Pair(reference, lay, known)
    plain = plain_causes(known)
    if plain is not None:
        return Explained(plain, is_deep=True)
    plain = _without_models(pair)
    if plain is not None:
        return Explained(plain)
    at = line_up(pair)
    if at is None:
        return Explained([Cause("unexplained", why="the alignment leaves no overlap")])
    base = [max(NAMING.least_power, one.power(one.y - one.inner)) for one in at.raw]
    causes = [*naming.channel_causes(pair, at), *naming.delay_causes(pair, at)]
    rounded = None if known.gaps or any(known.clicks) else naming.rounding_alone(pair, at)
    if rounded is not None:
        return Explained([*causes, *rounded, *length_cause(known)], clicks=[[]] * pair.channels, is_deep=True)
    noisy = explain_noisy(pair, at)
    if noisy is not None:
        return noisy
    found = fit(pair, at, pool)
    undelayed = fit_without_delay(pair, found, base, pool)
    if undelayed is not None:
        found = undelayed
        causes = [cause for cause in causes if cause.cause != "delay"]
    causes += naming.causes_at_level(found, pair.heard)
    clicks = clicks_left(reference, found.source, known.clicks, found.models, found.offsets)
    causes += naming.event_causes(pair, found, clicks, gaps_left(reference, known.gaps, found.models))
    modelled, curves = naming.model_causes(found, drifts=any(cause.cause == "drift" for cause in causes))
    drifted = abs(known.drift) * 1e-6 * reference.frames
    if any(cause.cause == "filter" for cause in modelled) and drifted < NAMING.filters_drift_samples:
        causes = [cause for cause in causes if cause.cause != "drift"]  # a filter's delay changes with what sounds
    causes = by_share(naming.without_doubtful(naming.with_leftover(causes + modelled, pair, found, base)))
    causes += length_cause(known)
    if not causes:
        causes = [Cause("unexplained", why="nothing that is known explains it")]
    filtered, why = _filtered(pair, found)
    return Explained(causes, filtered, why, curves, clicks, _is_deep(pair, found, base, causes))


def _is_deep(pair: Pair, found: Fitted, base: list[float], causes: list[Cause]) -> bool:
    """Whether next to nothing is left but rounding, with gaps and clicks counted."""
    if any(cause.cause == "quantisation" for cause in causes):
        return True
    if pair.known.gaps or any(pair.known.clicks) or naming.differs_elsewhere(pair, causes):
        return False
    left, heard = found.left, pair.heard
    return left <= len(heard) * NAMING.floor or fall(sum(base[c] for c in heard), left) >= NAMING.deep_db


def _without_models(pair: Pair) -> list[Cause] | None:
    """What is told of a render that is silent, or has no delay; None where there is more to tell."""
    known = pair.known
    if len(pair.missing) == pair.channels:
        return [Cause("silent", why="the render is silent"), *length_cause(known)]
    if known.delay is not None or known.drift or pair.is_swapped:
        return None
    if known.no_delay == "periodic":
        why = "one steady sound cannot tell: the signal is periodic: the delay is known up to whole periods only"
        return [Cause("unexplained", why=why), *length_cause(known)]
    return [Cause("unrelated", why="nothing in the render correlates with the reference"), *length_cause(known)]


def _filtered(pair: Pair, found: Fitted) -> tuple[Floats | None, str | None]:
    """Share of what a gain leaves, by channel, that the best filter leaves; or why that cannot be told."""
    if any(found.tones.values()):
        return None, "one steady tone cannot tell a filter"
    share = np.ones(pair.channels)
    for c, model in found.models.items():
        if model.filter is None:
            continue
        level = found.level[c]
        base = level.power(level.y - best_gain(level) * level.inner)
        linear = model.filter if model.parts == ("filter",) else fit_filter(level)
        if linear is not None:
            share[c] = linear.left / max(base, NAMING.least_power)
    return share, None
