"""Print the table of measures, made from the registry: docs/measures.md."""

from itertools import groupby

from kind_echo.core.registry.measure import Limit, Measure
from kind_echo.core.registry.measures import MEASURES

_HEAD = """\
# Measures

Made from the registry by `make types`; a check fails when it is stale. Keys are final: files, the API and scripts rely
on them. Full scale is ±1.0; a reading without a value says why; `at_most` carries a bound where only that is known.
"""


def _limit(limit: Limit | None) -> str:
    if limit is None:
        return ""
    if limit.at_least is not None and limit.at_most is not None:
        return f"{limit.at_least:g} … {limit.at_most:g}".replace("-", "−")
    return f"≤ {limit.at_most:g}".replace("-", "−") if limit.at_most is not None else f"≥ {limit.at_least:g}"


def _row(measure: Measure) -> str:
    cells = (f"`{measure.key}`", measure.title, measure.unit, measure.definition, _limit(measure.limit), measure.source)
    return f"| {' | '.join(cell.replace('|', chr(92) + '|') for cell in cells)} |"


def main() -> None:
    """One table a family."""
    print(_HEAD)
    for family, measures in groupby(MEASURES.values(), key=lambda measure: measure.family):
        print(f"## {family.capitalize()}\n\n| key | title | unit | definition | default limit | source |")
        print("| --- | --- | --- | --- | --- | --- |")
        print("\n".join(_row(measure) for measure in measures), end="\n\n")
    print(f"{len(MEASURES)} measures.")


if __name__ == "__main__":
    main()
