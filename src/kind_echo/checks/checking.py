"""A check from two folders to what is said of each pair: what is known is not measured again, the rest on all cores."""

import multiprocessing
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import BrokenExecutor, Executor, ProcessPoolExecutor, ThreadPoolExecutor
from dataclasses import dataclass
from datetime import date
from functools import partial

from kind_echo.bench.documents import MeasuredDocument
from kind_echo.checks.judging import Checked, failed, judge_pair, missing_render, without_reference
from kind_echo.checks.measuring import Measured, digests_of, key_of, measure_pair
from kind_echo.checks.pairing import Pair, Paired
from kind_echo.checks.result_cache import ResultCache
from kind_echo.checks.settings import Settings
from kind_echo.core.registry.errors import KindEchoError, RateMismatch

_KEPT_AT_ONCE = 32  # results, so that a check that is stopped has kept what it found
_ENDED = "A process that measures was ended from outside, as for want of memory; --jobs takes fewer at a time"
_IN_LINE = 4  # pairs ahead of each process, so that none waits


@dataclass(frozen=True)
class _Work:
    """A pair that is to be measured."""

    pair: Pair
    digests: list[str]
    key: str
    resample: bool


def check_pairs(
    paired: Paired, settings: Settings, known: ResultCache, today: date, jobs: int, tell: Callable[[int], None]
) -> list[Checked]:
    """What is said of each pair, of references without a render and of renders without a reference, by name.

    Args:
        known: results of earlier checks; those that are new are kept there.
        today: by which waivers end.
        jobs: processes that measure.
        tell: is called with how many pairs are done.
    """
    done: list[Checked] = [missing_render(name) for name in paired.missing]
    done += [without_reference(name) for name in paired.surplus]
    work: list[_Work] = []
    with ThreadPoolExecutor(max(2, jobs)) as pool:
        for pair, one in zip(paired.pairs, pool.map(partial(_work, settings), paired.pairs), strict=True):
            if isinstance(one, _Work):
                work.append(one)
            else:
                done.append(failed(pair, one))
    kept = known.find(one.key for one in work)
    rest = []
    for one in work:
        before = _measured_before(kept.get(one.key))
        if before is not None:
            done.append(judge_pair(one.pair, before, settings, today, was_known=True))
        else:
            rest.append(one)
    tell(len(done))
    new: dict[str, Mapping[str, object]] = {}
    try:
        for one, found in _measured(rest, jobs):
            if isinstance(found, str):
                done.append(failed(one.pair, found))
            else:
                new[one.key] = found.document()
                done.append(judge_pair(one.pair, found, settings, today, was_known=False))
            if len(new) >= _KEPT_AT_ONCE:
                known.keep(new)
                new = {}
            tell(len(done))
    finally:
        known.keep(new)
    return sorted(done, key=lambda checked: checked.name)


def _measured_before(document: MeasuredDocument | None) -> Measured | None:
    """What was kept; None where nothing was, or something that is no result."""
    try:
        return None if document is None else Measured.of(document)
    except (KeyError, TypeError, ValueError, AttributeError, KindEchoError):
        return None


def _work(settings: Settings, pair: Pair) -> _Work | str:
    resample = settings.rates_may_differ(pair.name)
    try:
        digests = digests_of(pair)
    except OSError as error:
        return str(error)
    return _Work(pair, digests, key_of(pair, digests, resample=resample), resample)


def _measured(work: list[_Work], jobs: int) -> Iterator[tuple[_Work, Measured | str]]:
    """Each piece of work with what was found, or why nothing was."""
    count = min(jobs, len(work))
    if count <= 1:
        yield from ((one, _measure(one)) for one in work)
        return
    # A fork would take the threads of this process along, halfway through what they do.
    with ProcessPoolExecutor(count, mp_context=multiprocessing.get_context("spawn")) as pool:
        yield from zip(work, _in_order(pool, work, count * _IN_LINE), strict=True)


def _in_order(pool: Executor, work: list[_Work], ahead: int) -> Iterator[Measured | str]:
    """As `pool.map`, with a few pieces in line alone: one that is stopped does not measure all the rest first."""
    begun = deque(pool.submit(_measure, one) for one in work[:ahead])
    for i in range(len(work)):
        try:
            found = begun.popleft().result()
            if i + ahead < len(work):
                begun.append(pool.submit(_measure, work[i + ahead]))
        except BrokenExecutor:  # killed, as for want of memory; all that were in line went with it
            yield from [_ENDED] * (len(work) - i)
            return
        yield found


def _measure(work: _Work) -> Measured | str:
    try:
        return measure_pair(work.pair, work.digests, resample=work.resample)
    except RateMismatch as error:
        rates = f"The reference is at {error.reference} Hz and the render at {error.render} Hz"
        return f"{rates}; rates_may_differ = true in the file of limits brings them together"
    except (KindEchoError, OSError) as error:
        return " ".join(str(error).split())
