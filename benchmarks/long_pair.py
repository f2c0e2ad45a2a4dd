"""The page of a long pair, once it is compared: what its server takes to open it, to zoom in and to map it.

`python -m benchmarks.long_pair [MINUTES]`: two files of stereo at 96 kHz, an hour long unless said otherwise, beside a
pair of a minute. Figures are of the server alone, without browser and network. An hour takes minutes to be kept.
"""

import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from benchmarks.runs import own_database

RATE, _CHANNELS = 96_000, 2
_COLUMNS = 1200
_QUICK_MAP, _MAP = (32, 160), (640, 160)  # columns and rows, as the page asks for them


@dataclass(frozen=True)
class _Tiled:
    """Noise that comes again every few seconds, softer and later where that is asked for."""

    tile: np.ndarray
    frames: int
    late: int = 0
    rate: int = RATE
    channels: int = _CHANNELS
    half_step: float = 2.0**-16
    rail: float = 1 - 2.0**-15

    def read(self, start: int, stop: int) -> np.ndarray:
        """Frames start to stop."""
        return self.tile[(np.arange(start, stop) - self.late) % len(self.tile)]


def report(minutes: float) -> list[str]:
    """The figures, a line each."""
    with own_database():
        short, long = (_seconds(span) for span in (1.0, minutes))
    return [
        f"{name}, pair of {minutes:g} min: {long[name]:.2f} s, {long[name] / short[name]:.1f} × that of a minute"
        for name in short
    ]


def _seconds(minutes: float) -> dict[str, float]:
    """Seconds of each act on a pair of that length, the median of three."""
    from kind_echo.bench.audio import draw, map_levels
    from kind_echo.bench.signals import find_pair
    from kind_echo.database.sessions import transaction
    from kind_echo.web.runs.views import files_pair_body

    frames = round(minutes * 60 * RATE)
    pair = compared_pair(frames)
    with transaction() as session:
        body = files_pair_body(find_pair(session, pair))
    sides = [side.address for side in (body.reference, body.render, body.difference) if side is not None]

    def opened() -> None:
        with transaction() as session:
            files_pair_body(find_pair(session, pair)).model_dump_json()
            for side in sides:
                draw(session, side, 0, frames, _COLUMNS)

    def zoomed() -> None:
        with transaction() as session:
            for side in sides:
                draw(session, side, frames // 2, frames // 2 + 200, _COLUMNS)

    def mapped(size: tuple[int, int], *, quick: bool) -> None:
        with transaction() as session:
            map_levels(session, sides[0], (0, frames), size, even=False, quick=quick)

    return {
        "opening": _time(opened),
        "zooming to samples": _time(zoomed),
        "the first level map of a side": _time(lambda: mapped(_QUICK_MAP, quick=True)),
        "the fine one": _time(lambda: mapped(_MAP, quick=False)),
    }


def compared_pair(frames: int) -> int:
    """Two files of so many frames, kept and compared; the number of their pair."""
    from kind_echo.audio_io.encoding import ENCODINGS
    from kind_echo.bench.comparisons import analyse
    from kind_echo.core.comparison.pair import CompareOptions
    from kind_echo.database.blobs import store_content
    from kind_echo.database.models import Pair, Upload
    from kind_echo.database.sessions import transaction

    words = np.random.default_rng(1).integers(-3000, 3000, (7 * RATE + 11, _CHANNELS))
    now = datetime.now(UTC)
    with transaction() as session:
        first, second = (
            store_content(session, source, ENCODINGS["PCM_16"])
            for source in (_Tiled(words / 2**15, frames), _Tiled((words // 2) / 2**15, frames, 12))
        )
        uploads = [
            Upload(name=name, file_sha256="", subtype="PCM_16", content_sha256=content.sha256, uploaded_at=now,
                   brought_by="Benchmark")
            for name, content in (("reference", first), ("render", second))
        ]  # fmt: skip
        session.add_all(uploads)
        session.flush()
        analysis = analyse(session, first, second, CompareOptions())
        pair = Pair(reference_id=uploads[0].id, render_id=uploads[1].id, options={}, state="done", why="",
                    analysis_key=analysis.key, created_at=now)  # fmt: skip
        session.add(pair)
        session.flush()
        return pair.id


def _time(act: Callable[[], None]) -> float:
    found = []
    for _ in range(3):
        begun = time.perf_counter()
        act()
        found.append(time.perf_counter() - begun)
    return sorted(found)[1]


if __name__ == "__main__":
    for line in report(float(sys.argv[1]) if len(sys.argv) > 1 else 60.0):
        print(line, flush=True)
