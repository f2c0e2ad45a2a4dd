"""What was measured before, in a file of its own: a pair whose bytes have not changed is not measured again."""

import json
import sqlite3
import zlib
from collections.abc import Iterable, Mapping
from contextlib import closing
from pathlib import Path
from typing import Any

from kind_echo.audio_io.own_folder import cache_folder

_DAYS = 90
"""For which a result is kept that nobody asked for again."""

_CHUNK = 500  # keys that are asked for at a time


def usual_place() -> Path | None:
    """Where results are kept unless another file is named: the user's folder for what can be made again.

    None where the user has no home, as in some containers.
    """
    folder = cache_folder()
    return None if folder is None else folder / "checks.sqlite"


class ResultCache:
    """Results by key. A file that cannot be used is told once, and everything is measured then."""

    def __init__(self, path: Path | None) -> None:
        """None keeps nothing."""
        self.path, self.problem = path, ""

    def find(self, keys: Iterable[str]) -> dict[str, Any]:
        """What is known under any of the keys, as JSON."""
        wanted, found = list(dict.fromkeys(keys)), {}
        try:
            with closing(self._open()) as kept, kept:
                for start in range(0, len(wanted), _CHUNK):
                    part = wanted[start : start + _CHUNK]
                    marks = ",".join("?" * len(part))
                    rows = kept.execute(f"SELECT key, result FROM pairs WHERE key IN ({marks})", part)
                    found.update({key: json.loads(zlib.decompress(result)) for key, result in rows})
                    kept.execute(f"UPDATE pairs SET used = julianday('now') WHERE key IN ({marks})", part)
        except (sqlite3.Error, OSError, ValueError, zlib.error) as error:
            self.problem = self.problem or str(error)
        return found

    def keep(self, results: Mapping[str, Mapping[str, Any]]) -> None:
        """Keep results, and forget what nobody asked for in a long time."""
        rows = [(key, zlib.compress(json.dumps(one, allow_nan=False).encode(), 6)) for key, one in results.items()]
        if not rows:
            return
        try:
            with closing(self._open()) as kept, kept:
                kept.executemany("INSERT OR REPLACE INTO pairs VALUES (?, ?, julianday('now'))", rows)
                kept.execute("DELETE FROM pairs WHERE used < julianday('now') - ?", (_DAYS,))
        except (sqlite3.Error, OSError) as error:
            self.problem = self.problem or str(error)

    def _open(self) -> sqlite3.Connection:
        if self.path is None:
            kept = sqlite3.connect(":memory:")
        else:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            kept = sqlite3.connect(self.path, timeout=30)
        kept.execute(
            "CREATE TABLE IF NOT EXISTS pairs (key TEXT PRIMARY KEY, result BLOB NOT NULL, used REAL NOT NULL)"
        )
        return kept
