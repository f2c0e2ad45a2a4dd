"""Versions of what is computed, so that results kept from before are never taken for new ones.

Raise the number of a family in the change that alters its results: `python -m ops.versions` then keeps the new results,
and a check of `make test` fails while results changed and the number did not.
"""

from collections.abc import Iterable

from kind_echo.core.registry.measure import Family

FAMILY_VERSIONS: dict[Family, int] = {
    "levels": 2, "loudness": 1, "integrity": 1, "compare": 11, "account": 2, "takes": 3, "tone": 3, "aliases": 2,
    "imd": 1, "response": 4, "latency": 5, "transfer": 4, "law": 1, "dynamics": 4, "lossy": 1, "match": 1,
    "listening": 2, "folding": 1, "cost": 1, "hosting": 2,
}  # fmt: skip

SIGNAL_VERSION = 1
"""Of the signal generator."""


_ADDED: dict[Family, list[str]] = {}


def add_version(family: Family, text: str) -> None:
    """Let the results of a family hang on a version from outside the package as well."""
    _ADDED.setdefault(family, []).append(text)


def versions_of(families: Iterable[Family]) -> list[str]:
    """The versions of some families, as they stand in the digest of a result."""
    wanted = sorted(set(families))
    added = [text for family in wanted for text in _ADDED.get(family, [])]
    return [f"{family} {FAMILY_VERSIONS[family]}" for family in wanted] + sorted(added)
