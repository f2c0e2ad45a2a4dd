"""How often the cause of a difference is named rightly: planted changes on real sounds, a confusion table.

`python -m benchmarks.causes [--rates 48000] [--pieces 3] [--only NAME]` prints the table.
"""

import argparse
import collections
import concurrent.futures
from dataclasses import dataclass

import numpy as np
from tests.support.material import PIECES, RATES, Piece, load
from tests.support.on_signals import ON_SIGNALS, SIGNALS
from tests.support.planted import PAIRS, SINGLE, Planted
from tests.support.unusual import UNUSUAL

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.compare import compare
from kind_echo.wording.causes import describe

_AUDIBLE = 10 ** (-100 / 20)  # RMS of a filter's change under which nothing was planted
_SOUNDLESS = 1e-9


@dataclass(frozen=True)
class Outcome:
    """One planted change on one sound, and what was said of it."""

    planted: str
    piece: str
    rate: int
    said: frozenset[str]
    result: str
    words: str


_USUAL = (*SINGLE, *PAIRS)
_CHANGES = (*_USUAL, *UNUSUAL)


def look(number: int, piece: Piece, rate: int) -> Outcome | None:
    """Plant a change, compare, judge what was said; None where the change does nothing to this sound."""
    planted = _CHANGES[number]
    x = load(piece, rate)
    if "drift" in planted.causes and len(x) < 3 * rate:
        return None  # a drift has no reading under 2 s
    x, y = planted.sides(x, rate)
    if len(x) == len(y) and planted.causes != {"none"} and np.sqrt(np.mean((y - x) ** 2)) < _least(planted):
        return None
    found = compare(ArraySource(x, rate), ArraySource(y, rate))
    said = frozenset(cause.cause for cause in found.causes)
    return Outcome(planted.name, piece.name, rate, said, judge(planted, said), describe(found.causes))


def look_at_signal(number: int, rate: int) -> Outcome | None:
    """Plant a change in a test signal, compare, judge what was said; None where the change does nothing to it."""
    case = ON_SIGNALS[number]
    x, y = case.planted.sides(SIGNALS[case.signal](rate), rate)
    if case.planted.causes != {"none"} and len(x) == len(y) and np.sqrt(np.mean((y - x) ** 2)) < _SOUNDLESS:
        return None
    found = compare(ArraySource(x, rate), ArraySource(y, rate))
    said = frozenset(cause.cause for cause in found.causes)
    return Outcome(case.planted.name, case.signal, rate, said, judge(case.planted, said), describe(found.causes))


def _least(planted: Planted) -> float:
    """RMS of a change under which nothing was planted."""
    return _AUDIBLE if planted.causes == {"filter"} else _SOUNDLESS


def judge(planted: Planted, said: frozenset[str]) -> str:
    """right, wrong (a cause that was not planted), part (some of them, and nothing wrong), or cannot tell."""
    told = said - {"unexplained"}
    if told - planted.causes - planted.rest - planted.instead:
        return "wrong"
    if told & planted.instead or (planted.causes <= told and (planted.causes or "unexplained" in said)):
        return "right"
    return "part" if told else "cannot tell"


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rates", type=int, nargs="*", default=list(RATES))
    parser.add_argument("--pieces", type=int, default=len(PIECES))
    parser.add_argument("--skip", type=int, default=0)
    parser.add_argument("--only", default="")
    parser.add_argument("--unusual", action="store_true")
    parser.add_argument("--signals", action="store_true")
    parser.add_argument("--show", action="store_true")
    asked = parser.parse_args()
    with concurrent.futures.ProcessPoolExecutor(2) as pool:
        if asked.signals:
            chosen = [i for i, case in enumerate(ON_SIGNALS) if asked.only in case.planted.name]
            changes = list({ON_SIGNALS[i].planted.name: ON_SIGNALS[i].planted for i in chosen}.values())
            found = pool.map(look_at_signal, *zip(*((i, rate) for rate in asked.rates for i in chosen), strict=True))
        else:
            changes = [p for p in (UNUSUAL if asked.unusual else _USUAL) if asked.only in p.name]
            pieces = PIECES[asked.skip :: max(1, len(PIECES) // asked.pieces)]
            jobs = [(_CHANGES.index(p), piece, rate) for piece in pieces for rate in asked.rates for p in changes]
            found = pool.map(look, *zip(*jobs, strict=True), chunksize=4)
        outcomes = [o for o in found if o is not None]
    if asked.show:
        for o in outcomes:
            if o.result != "right":
                print(f"{o.result:12} {o.planted:28} {o.piece:14} {o.rate:6} {sorted(o.said)} | {o.words}")
    for p in changes:
        mine = [o for o in outcomes if o.planted == p.name]
        counted = collections.Counter(o.result for o in mine)
        print(f"{p.name:30} {len(mine):4} right {counted['right']:4} part {counted['part']:3} "
              f"wrong {counted['wrong']:3} cannot tell {counted['cannot tell']:3}")  # fmt: skip
    counted = collections.Counter(o.result for o in outcomes)
    print({k: f"{100 * v / len(outcomes):.1f} %" for k, v in counted.items()}, len(outcomes))


if __name__ == "__main__":
    main()
