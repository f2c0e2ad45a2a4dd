"""A sheet as it is sent: whole, or only the cells that are not as a reader has them."""

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from threading import Lock

from cachetools import LRUCache

from kind_echo.web.runs.schemas import SheetBody

_REMEMBERED_BYTES = 64 << 20


@dataclass(frozen=True)
class SheetAnswer:
    """A sheet as JSON, its cells apart.

    Attributes:
        head: the object with all but its cells.
        cells: each cell as JSON, by its number.
        version: digest of all of it.
    """

    head: bytes
    cells: Mapping[int, bytes]
    version: str

    @classmethod
    def of(cls, sheet: SheetBody, cells: Mapping[int, bytes]) -> "SheetAnswer":
        """The JSON of a sheet, from the sheet without its cells and the JSON of each of them."""
        head = sheet.model_dump_json(exclude={"cells", "version", "since"}).encode()
        digest = hashlib.sha256(head)
        for cell in cells.values():
            digest.update(cell)
        return cls(head, cells, digest.hexdigest()[:24])

    def __len__(self) -> int:
        """The bytes that it takes: its parts, and all of it in one piece."""
        return 2 * (len(self.head) + sum(map(len, self.cells.values())))

    @cached_property
    def whole(self) -> bytes:
        """All of it, for who has none of it."""
        return self._json("null", [*self.cells.values()])

    def json(self, earlier: "SheetAnswer | None" = None) -> bytes:
        """The whole sheet; for who has an earlier one, with the cells alone that were not the same in it."""
        if earlier is None or earlier.cells.keys() != self.cells.keys():
            return self.whole
        cells = [cell for number, cell in self.cells.items() if earlier.cells[number] != cell]
        return self._json(f'"{earlier.version}"', cells)

    def tag(self, earlier: "SheetAnswer | None") -> str:
        """What tells the JSON beside an earlier sheet from any other."""
        return self.version if earlier is None else f"{self.version}.{earlier.version}"

    def _json(self, since: str, cells: list[bytes]) -> bytes:
        rest = f',"version":"{self.version}","since":{since},"cells":['.encode()
        return self.head[:-1] + rest + b",".join(cells) + b"]}"


class SheetsSent:
    """Sheets that were sent lately, by version, for readers who come back with them."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._sheets: LRUCache[str, SheetAnswer] = LRUCache(_REMEMBERED_BYTES, getsizeof=len)

    def remember(self, sheet: SheetAnswer) -> None:
        """One that is being sent; too large a one is not kept."""
        with self._lock:
            if len(sheet) <= _REMEMBERED_BYTES:
                self._sheets[sheet.version] = sheet

    def find(self, version: str) -> SheetAnswer | None:
        """The sheet of a version, if it was sent lately."""
        with self._lock:
            found: SheetAnswer | None = self._sheets.get(version)
        return found
