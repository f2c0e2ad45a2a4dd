"""The smallest description of some cells in the factors of their conditions: "in Bittern, at 44.1 and 48 kHz"."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

Mask = NDArray[np.bool_]
Codes = NDArray[np.int64]

MOST_BOXES = 3
"""Cells that so many boxes do not describe are no product of factors, and are left as they are."""


@dataclass(frozen=True)
class Box:
    """Cells that are alike in some factors.

    Attributes:
        values: the values of each factor that counts, in the order of the factors; a factor that is not named does not.
        members: places of the cells in it, in order.
    """

    values: Mapping[str, tuple[str, ...]]
    members: tuple[int, ...]


@dataclass(frozen=True)
class Grid:
    """Cells by their factors: `names` of the factors, the `labels` of each, and a code for each cell and factor."""

    names: tuple[str, ...]
    labels: tuple[tuple[str, ...], ...]
    codes: Codes

    @staticmethod
    def of(cells: Sequence[Mapping[str, str]], names: Sequence[str]) -> "Grid":
        """From the value of each factor for each cell; values keep the order in which they first appear."""
        labels = tuple(tuple(dict.fromkeys(cell[name] for cell in cells)) for name in names)
        index = [{label: code for code, label in enumerate(values)} for values in labels]
        codes = np.empty((len(cells), len(names)), dtype=np.int64)
        for k, name in enumerate(names):
            codes[:, k] = [index[k][cell[name]] for cell in cells]
        return Grid(tuple(names), labels, codes)


def describe(grid: Grid, positive: Mask, negative: Mask) -> list[Box]:
    """Cover the positive cells with as few boxes as can be found that hold no negative one.

    Cells that are neither may lie in a box or not: nothing is known of them. Each box is the one that covers most of
    what is left of all that name few factors; it depends on the cells alone, not on chance. Where more than MOST_BOXES
    would be needed the cells are no product of factors: they then come as one, with the values that occur among them.
    """
    boxes: list[Box] = []
    left = positive.copy()
    if len(grid.codes):
        # Two cells may be alike in every factor, as where a case differs in its takes alone: they do not contradict.
        place = np.ravel_multi_index(tuple(grid.codes.T), [len(labels) for labels in grid.labels])
        negative = negative & ~np.isin(place, place[positive])
    while left.any():
        allowed = _best(grid, int(np.flatnonzero(left)[0]), left, negative)
        inside = _within(grid.codes, allowed) & left
        boxes.append(Box(_named(grid, allowed), tuple(int(i) for i in np.flatnonzero(inside))))
        left &= ~inside
        if len(boxes) > MOST_BOXES:
            return [_occurring(grid, positive)]
    return boxes


def _best(grid: Grid, seed: int, positive: Mask, negative: Mask) -> list[Mask]:
    """The box around a seed that covers most positive cells; of equals, the one that names least, earliest factors."""
    known = np.flatnonzero(positive | negative)
    codes, good, bad = grid.codes[known], positive[known], negative[known]
    same = codes == grid.codes[seed]
    varying = [k for k, labels in enumerate(grid.labels) if len(labels) > 1]
    best: tuple[int, list[Mask]] = (-1, [])
    for size in range(len(varying) + 1):
        for named in combinations(varying, size):
            start = same[:, list(named)].all(axis=1) if named else np.ones(len(codes), dtype=bool)
            if (start & bad).any():
                continue
            allowed = _widened(grid, seed, named, codes, good, bad)
            covered = int((_within(codes, allowed) & good).sum())
            if covered > best[0]:
                best = (covered, allowed)
    return best[1]


def _widened(grid: Grid, seed: int, named: Sequence[int], codes: Codes, good: Mask, bad: Mask) -> list[Mask]:
    """The values allowed for each factor: all where it is not named, else those of the seed and others that fit."""
    allowed = [np.ones(len(labels), dtype=bool) for labels in grid.labels]
    for k in named:
        allowed[k][:] = False
        allowed[k][grid.codes[seed, k]] = True
    within = {k: allowed[k][codes[:, k]] for k in named}
    while True:
        most, where, which = 0, -1, None
        for k in named:
            others = np.ones(len(codes), dtype=bool)
            for j in named:
                if j != k:
                    others &= within[j]
            wider = np.zeros_like(allowed[k])
            wider[codes[others & good, k]] = True
            wider[codes[others & bad, k]] = False
            wider |= allowed[k]
            gained = int((others & good & wider[codes[:, k]] & ~within[k]).sum())
            if gained > most:
                most, where, which = gained, k, wider
        if which is None:
            return allowed
        allowed[where] = which
        within[where] = which[codes[:, where]]


def _within(codes: Codes, allowed: Sequence[Mask]) -> Mask:
    return np.asarray(np.logical_and.reduce([mask[codes[:, k]] for k, mask in enumerate(allowed)]))


def _named(grid: Grid, allowed: Sequence[Mask]) -> dict[str, tuple[str, ...]]:
    return {
        name: tuple(label for label, kept in zip(labels, mask, strict=True) if kept)
        for name, labels, mask in zip(grid.names, grid.labels, allowed, strict=True)
        if not mask.all()
    }


def _occurring(grid: Grid, positive: Mask) -> Box:
    allowed = []
    for k, labels in enumerate(grid.labels):
        mask = np.zeros(len(labels), dtype=bool)
        mask[grid.codes[positive, k]] = True
        allowed.append(mask)
    return Box(_named(grid, allowed), tuple(int(i) for i in np.flatnonzero(positive)))
