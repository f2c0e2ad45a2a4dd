"""How often the cause of a difference is named rightly: planted changes on real sounds, a confusion table.

`python -m benchmarks.causes [--rates 48000] [--pieces 3] [--only NAME]` prints the table.
"""

import argparse
import collections
import concurrent.futures
from dataclasses import dataclass

import numpy as np
from tests.support.material import PIECES, RATES, Piece, load
from tests.support.planted import PAIRS, SINGLE, Planted

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.comparison.compare import compare
from kind_echo.wording.causes import describe

_AUDIBLE = 10 ** (-100 / 20)  # RMS of a change under which nothing was planted


@dataclass(frozen=True)
class Outcome:
    """One planted change on one sound, and what was said of it."""

    planted: str
    piece: str
    rate: int
    said: frozenset[str]
    result: str
    words: str


_CHANGES = (*SINGLE, *PAIRS)


def look(number: int, piece: Piece, rate: int) -> Outcome | None:
    """Plant a change, compare, judge what was said; None where the change does nothing to this sound."""
    planted = _CHANGES[number]
    x = load(piece, rate)
    if "drift" in planted.causes and len(x) < 3 * rate:
        return None  # a drift has no reading under 2 s
    y = np.ascontiguousarray(planted.make(x, rate))
    if planted.causes == {"filter"} and np.sqrt(np.mean((y - x) ** 2)) < _AUDIBLE:
        return None
    found = compare(ArraySource(x, rate), ArraySource(y, rate))
    said = frozenset(cause.cause for cause in found.causes)
    return Outcome(planted.name, piece.name, rate, said, judge(planted, said), describe(found.causes))


def judge(planted: Planted, said: frozenset[str]) -> str:
    """right, wrong (a cause that was not planted), part (some of them, and nothing wrong), or cannot tell."""
    told = said - {"unexplained"}
    if told - planted.causes - planted.rest:
        return "wrong"
    if planted.causes <= told:
        return "right"
    return "part" if told else "cannot tell"


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rates", type=int, nargs="*", default=list(RATES))
    parser.add_argument("--pieces", type=int, default=len(PIECES))
    parser.add_argument("--skip", type=int, default=0)
    parser.add_argument("--only", default="")
    parser.add_argument("--show", action="store_true")
    asked = parser.parse_args()
    changes = [p for p in _CHANGES if asked.only in p.name]
    pieces = PIECES[asked.skip :: max(1, len(PIECES) // asked.pieces)]
    jobs = [(_CHANGES.index(p), piece, rate) for piece in pieces for rate in asked.rates for p in changes]
    with concurrent.futures.ProcessPoolExecutor(2) as pool:
        outcomes = [o for o in pool.map(look, *zip(*jobs, strict=True), chunksize=4) if o is not None]
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
