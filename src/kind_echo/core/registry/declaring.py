"""How measures are declared: rows of a family, and the sources that several of them rest on."""

from typing import Any

from kind_echo.core.registry.measure import Family, Limit, Measure, Needs

AES17 = "AES17-2020: 0 dBFS is the RMS level of a full-scale sine."
PRACTICE = "Common practice, no source."
BS1770 = "ITU-R BS.1770-5."
R128 = "ITU-R BS.1770-5; EBU R 128, Tech 3341."
GCC = (
    "C. H. Knapp and G. C. Carter, The generalized correlation method for estimation of time delay, IEEE Trans. ASSP 24"
    " (1976); uncertainty by the bound for delay in white noise."
)
IEC3 = "IEC 60268-3; AES17-2020."
FOLD = "Sampling: harmonic n of f lies at n·f and folds at half the rate; C. E. Shannon, Proc. IRE 37 (1949)."
FLAG: dict[str, Any] = {"decimals": 0, "drawing": "flag"}
SIGN: dict[str, Any] = {"decimals": 0, "drawing": "sign"}
COUNT: dict[str, Any] = {"decimals": 0, "drawing": "count"}
NONE = Limit(at_most=0)


def family(family: Family, needs: Needs, *rows: tuple[Any, ...]) -> list[Measure]:
    """Measures of a family: rows of key, title, unit, definition, source and, where not as usual, other attributes."""
    return [
        Measure(key, title, unit, text, source, needs, family, **(rest[0] if rest else {}))
        for key, title, unit, text, source, *rest in rows
    ]
