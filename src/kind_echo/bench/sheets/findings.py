"""Findings: cells that need a person, gathered by what they show and by what they have in common."""

import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from kind_echo.bench.machines import Box, Grid, Mask, describe
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.verdicts.symptoms import Examined, Symptom, judged_for, symptoms_of, together
from kind_echo.core.verdicts.verdict import VerdictName
from kind_echo.wording.conditions import listed
from kind_echo.wording.verdicts import headline, symptom_text, worst_text

FACTORS = ("host", "mode", "rate", "setting", "signal", "block")
"""Those that a person would name first come first."""

_RANK = {"Fail": 0, "No reading": 1, "Changed": 2, "Waiting": 3}
_PLACES: dict[str, Callable[[str], str]] = {
    "host": lambda s: f"in {s}", "mode": lambda s: s, "rate": lambda s: f"at {s}", "block": lambda s: f"with {s}",
    "setting": lambda s: f"with {s}", "signal": lambda s: f"on {s}",
}  # fmt: skip


@dataclass(frozen=True)
class Finding:
    """Something that cells share.

    Attributes:
        key: the same for the same cells and headline.
        headline: what is wrong, the cause first, without figures that differ from cell to cell.
        where: the smallest description in the factors of the cells.
        symptoms: what its cells show, as facts, the cause first.
        worst: the figures of the cell with most ink, where the headline has not said them.
        cells: their numbers.
        undecided: how many of them still need a person.
    """

    key: str
    verdict: VerdictName
    headline: str
    symptoms: tuple[Symptom, ...]
    where: str
    worst: str
    cells: tuple[int, ...]
    undecided: int


@dataclass(frozen=True)
class _Group:
    symptoms: tuple[Symptom, ...]
    box: Box
    judged: Mask

    @property
    def members(self) -> frozenset[int]:
        return frozenset(self.box.members)


def find(cells: Sequence[Examined]) -> list[Finding]:
    """All findings of a run's cells, the gravest first: by verdict, by cells that are not decided, by cells.

    The same cells give the same findings. A cell that shows two things is in two findings.
    """
    if not cells:
        return []
    grid = Grid.of([cell.factors for cell in cells], FACTORS)
    shown = [symptoms_of(cell) for cell in cells]
    groups = [group for symptom, members in _alike(shown) for group in _split(cells, grid, symptom, members)]
    found = [_finding(cells, group) for group in _merged(groups)]
    return sorted(found, key=lambda f: (_RANK[f.verdict], -f.undecided, -len(f.cells), f.headline, f.cells))


def _alike(shown: Sequence[Sequence[Symptom]]) -> list[tuple[Symptom, list[int]]]:
    """Cells by what they show; where amounts tell causes apart, by amounts that lie close to each other."""
    by_kind: dict[Symptom, list[tuple[Symptom, int]]] = {}
    for place, symptoms in enumerate(shown):
        for symptom in symptoms:
            by_kind.setdefault(symptom, []).append((symptom, place))
    found = []
    for symptom, members in by_kind.items():
        limits = None if symptom.measure is None or symptom.amount is None else find_measure(symptom.measure).apart
        if limits is None:
            plainest = sorted((s for s, _ in members), key=lambda s: (len(symptom_text(s)), symptom_text(s)))
            found.append((together(plainest), [p for _, p in members]))
            continue
        apart, share = limits
        ordered = sorted(members, key=lambda member: (member[0].amount or 0.0, member[1]))
        cluster = [ordered[0]]
        for before, member in pairwise(ordered):
            low, high = before[0].amount or 0.0, member[0].amount or 0.0
            if high - low > max(apart, share * abs(high)):
                found.append((cluster[len(cluster) // 2][0], [p for _, p in cluster]))
                cluster = []
            cluster.append(member)
        found.append((cluster[len(cluster) // 2][0], [p for _, p in cluster]))
    return found


def _split(cells: Sequence[Examined], grid: Grid, symptom: Symptom, members: Sequence[int]) -> list[_Group]:
    """What one symptom shows in places that have nothing in common are several findings."""
    positive = np.zeros(len(cells), dtype=bool)
    positive[list(members)] = True
    judged = np.array([judged_for(cell, symptom) for cell in cells]) | positive
    return [_Group((symptom,), box, judged) for box in describe(grid, positive, judged & ~positive)]


def _merged(groups: Sequence[_Group]) -> list[_Group]:
    """Symptoms that show in the same cells are one finding; so is one that shows wherever it is judged at all there."""
    merged: list[_Group] = []
    for group in sorted(groups, key=lambda g: (-len(g.members), g.symptoms[0].rank, g.box.members)):
        for i, wider in enumerate(merged):
            same_verdict = wider.symptoms[0].verdict == group.symptoms[0].verdict == "Fail"
            there = frozenset(place for place in wider.members if group.judged[place])
            if same_verdict and group.members == there:
                merged[i] = replace(wider, symptoms=(*wider.symptoms, *group.symptoms))
                break
        else:
            merged.append(group)
    return merged


def _finding(cells: Sequence[Examined], group: _Group) -> Finding:
    members = [cells[place] for place in group.box.members]
    symptoms = tuple(sorted(group.symptoms, key=lambda symptom: (symptom.rank, symptom_text(symptom))))
    said = headline(symptoms)
    worst = max(members, key=lambda cell: (cell.verdict.ink, -cell.id))
    numbers = tuple(cell.id for cell in members)
    digest = hashlib.sha256(repr((said, numbers)).encode()).hexdigest()[:12]
    return Finding(
        key=digest,
        verdict=group.symptoms[0].verdict,
        headline=said,
        symptoms=symptoms,
        where=place_text(group.box) or ("everywhere" if len(members) == len(cells) else "wherever it can be measured"),
        worst=worst_text(worst.verdict, symptoms),
        cells=numbers,
        undecided=sum(not cell.decided for cell in members),
    )


def place_text(box: Box) -> str:
    """A box in words; empty for one that names nothing."""
    parts = [_PLACES[name](listed(box.values[name])) for name in FACTORS if name in box.values]
    return ", ".join(parts)
