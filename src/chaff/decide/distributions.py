"""Shapes: how the values of a column were spread when it was selected, small enough for a file, and how far others lie from it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.decide.selection_parts import ShapePart
from chaff.stats.part_differences import pooled_cells
from chaff.table.kinds import Column

STEPS = 20  # quantiles that the spread of a number is told by
BINS = 10  # of equal count, for the population stability
MOST_LEVELS = 2_000
CLEAR = 4.0  # times the rows of the rarest listed level, and as many more, that a level has which would be listed again
FLOOR = 1e-4  # a share of none would make one row infinitely surprising


def shape_of(column: Column) -> ShapePart:
    """Of a number: values and the share of rows at or below each; of levels: their shares. Missing cells apart."""
    present = column.values[~column.missing]
    rows, missing = int(column.values.size), round(float(column.missing.mean()), 6) if column.values.size else 0.0
    if column.levels:
        counts = np.bincount(present.astype(int), minlength=len(column.levels)) / max(present.size, 1)
        order = np.argsort(-counts, kind="stable")[:MOST_LEVELS]
        return ShapePart(rows=rows, missing_share=missing, levels={column.levels[k]: float(f"{counts[k]:.6g}") for k in order if counts[k]})
    if not present.size:
        return ShapePart(rows=rows, missing_share=missing)
    values = np.sort(present)
    edges = np.unique(values[np.minimum((np.arange(STEPS + 1) / STEPS * values.size).astype(int), values.size - 1)])
    below = np.searchsorted(values, edges, side="right") / values.size
    strictly = np.searchsorted(values, edges, side="left") / values.size
    steps = [[float(e), float(f"{s:.6g}"), float(f"{b:.6g}")] for e, s, b in zip(edges, strictly, below, strict=True)]
    return ShapePart(rows=rows, missing_share=missing, steps=steps)


@dataclass
class Tally:
    """Counts of new values against the steps of a shape, one batch after the other."""

    distribution: ShapePart
    rows: int = 0
    missing: int = 0

    def __post_init__(self) -> None:
        self._edges = np.array([s[0] for s in self.distribution.steps])
        self._below = np.zeros((2, self._edges.size), np.int64)  # strictly below, at or below
        self._low, self._high = np.inf, -np.inf
        self.levels: dict[str, int] = {}

    def reach(self, low: float | None, high: float | None) -> None:
        """The smallest and the largest value of some rows."""
        if low is not None and high is not None:
            self._low, self._high = min(self._low, float(low)), max(self._high, float(high))

    def add_numbers(self, values: Floats, times: int = 1) -> None:
        """float64, NaN where missing; each row stands for so many."""
        self.rows += values.size * times
        gaps = np.isnan(values)
        if gaps.any():
            self.missing += int(gaps.sum()) * times
            values = values[~gaps]
        if not values.size:
            return
        self.reach(float(values.min()), float(values.max()))
        if self._edges.size:
            ordered = np.sort(values)
            self._below[0] += times * np.searchsorted(ordered, self._edges, side="left")
            self._below[1] += times * np.searchsorted(ordered, self._edges, side="right")

    def add_words(self, counts: dict[str | None, int]) -> None:
        """How often each level comes; None for missing cells."""
        for word, n in counts.items():
            self.rows += n
            if word is None:
                self.missing += n
            else:
                self.levels[word] = self.levels.get(word, 0) + n

    @property
    def present(self) -> int:
        return self.rows - self.missing

    @property
    def outside(self) -> float:
        """Share of the present rows beyond the range then; a lone one that a sample passed over is a row in all."""
        if not self._edges.size or not self.present:
            return 0.0
        count = int(self._below[0][0] + self.present - self._below[1][-1])
        beyond = self._low < self._edges[0] or self._high > self._edges[-1]
        return max(count, int(beyond)) / self.present

    def drift(self) -> Drift:
        """How far the new values lie from the old ones."""
        missing = (self.distribution.missing_share, self.missing / self.rows if self.rows else 0.0)
        if not self.present:
            return Drift(float("nan"), float("nan"), missing, (), self.rows)
        if self.distribution.levels:
            return self._of_levels(missing)
        if not self._edges.size:
            return Drift(float("nan"), float("nan"), missing, (), self.rows)
        new = self._below / self.present
        old = np.array([[s[1] for s in self.distribution.steps], [s[2] for s in self.distribution.steps]])
        cuts = self._cuts(old[1])
        shares = [np.diff(np.concatenate([[0.0], f[1][cuts], [1.0]])) for f in (old, new)]
        return Drift(stability_index(*shares), float(np.abs(new - old).max()), missing, (), self.rows)

    def _cuts(self, below: Floats) -> Any:
        """Steps that cut the old values into bins of about equal count."""
        wanted = np.searchsorted(below, np.arange(1, BINS) / BINS - 1e-9)
        return np.unique(wanted[wanted < below.size - 1])

    def level_counts(self) -> tuple[list[str], Floats, Floats]:
        """(levels of both, rows of each then, rows now). Where the shape does not list all, its commonest levels and a last place for all
        others: what was listed because it happened to come often is no yardstick for what comes now."""
        old, rows = self.distribution.levels, self.distribution.rows * (1 - self.distribution.missing_share)
        names = list(old)
        if len(old) >= MOST_LEVELS:
            common = CLEAR * (min(old.values()) * rows + CLEAR)
            names = [w for w, s in old.items() if s * rows >= common]
            then = np.array([old[w] * rows for w in names])
            now = np.array([self.levels.get(w, 0) for w in names], float)
            return [*names, ""], np.rint(np.append(then, rows - then.sum())), np.append(now, self.present - now.sum())
        names += sorted(set(self.levels) - set(old))
        return names, np.rint([old.get(w, 0.0) * rows for w in names]), np.array([self.levels.get(w, 0) for w in names], float)

    def _of_levels(self, missing: tuple[float, float]) -> Drift:
        fresh = tuple(sorted(set(self.levels) - set(self.distribution.levels)))
        _, then, now = self.level_counts()
        a, b = pooled_cells(then, now)
        shares = a / max(a.sum(), 1.0), b / max(b.sum(), 1.0)
        return Drift(stability_index(*shares), float(np.abs(shares[0] - shares[1]).sum() / 2), missing, fresh, self.rows)


@dataclass(frozen=True)
class Drift:
    """How far the values of a column lie from those that it was selected on."""

    stability: float
    """Population stability index: 0 the same, over 0.1 some, over 0.25 much; rare levels added up."""
    distance: float
    """Of numbers the largest difference of the shares below a value (Kolmogorov–Smirnov, over the stored steps); of levels the share of
    rows that would have to change."""
    missing: tuple[float, float]
    """Shares, then and now."""
    fresh: tuple[str, ...]
    """Levels that were not there."""
    rows: int


def stability_index(old: Floats, new: Floats) -> float:
    """Σ (new − old) ln(new / old) over shares; 0 where nothing moved (the symmetric divergence of Jeffreys, 1946).

    >>> import numpy as np
    >>> stability_index(np.array([0.5, 0.5]), np.array([0.5, 0.5]))
    0.0
    """
    a, b = np.maximum(old, FLOOR), np.maximum(new, FLOOR)
    return float(((b - a) * np.log(b / a)).sum())
