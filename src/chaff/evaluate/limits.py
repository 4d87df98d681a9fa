"""How much a search may spend, and how much it has spent.

A table cut down to the rows that some folds use, with the folds on those rows.
"""

from __future__ import annotations

import time
from dataclasses import dataclass, field

import numpy as np

from chaff.errors import UsageError
from chaff.folds import Folds
from chaff.table.table import Table


def used_rows(table: Table, folds: Folds) -> tuple[Table, Folds]:
    """What a search that is rerun inside a training fold may see, as a table of its own; the table itself where all rows are used."""
    used = np.zeros(len(table), bool)
    for split in folds.splits:
        for rows in folds.rows(split):
            used[rows] = True
    if used.all():
        return table, folds
    rows = np.flatnonzero(used)
    return table.take(rows), Folds(tuple(part[rows] for part in folds.parts), folds.splits, folds.how, folds.ordered)


class Spent(Exception):
    """Ends a search that has used up what it was given; what it found until then stands."""


@dataclass(frozen=True)
class Limits:
    """What a search may spend.

    Parameters
    ----------
    total_cost : float, optional
        What a set may cost to measure, by the table's costs; a panel's cost is paid once.
    seconds : float, optional
        How long it may take; looked at between two evaluations.
    evaluations : int, optional
        How many sets may be scored. What a journal knows counts as if it were scored, so that a search that goes on ends where it
        would have ended; what this search has scored before does not count again. A closed-form walk sees all changes of a step at
        once, so that it ends after the step with which it reached the number.
    """

    total_cost: float | None = None
    seconds: float | None = None
    evaluations: int | None = None

    def __post_init__(self) -> None:
        wrong = [
            f"{n} must be {w}, not {v}" for n, v, w in self._limits_set() if v is not None and not (v > 0 or (n == "total_cost" and v == 0))
        ]
        if wrong:
            raise UsageError("; ".join(wrong))

    def _limits_set(self) -> list[tuple[str, float | None, str]]:
        over = "over 0"
        return [("total_cost", self.total_cost, "0 or more"), ("seconds", self.seconds, over), ("evaluations", self.evaluations, over)]


@dataclass
class Tally:
    """What a search has spent so far."""

    limits: Limits = field(default_factory=Limits)
    evaluations: int = 0
    """Sets that were scored."""
    saved: int = 0
    """Sets that were asked for and known already."""
    from_journal: int = 0
    """Of those saved, how many a journal knew."""
    scored: list[frozenset[str]] = field(default_factory=list, repr=False)
    """Sets that were met for the first time, in order, those that a closed-form walk saw in passing not among them."""
    began: float = field(default_factory=time.perf_counter)

    @property
    def seconds(self) -> float:
        return time.perf_counter() - self.began

    @property
    def left(self) -> int | None:
        """Evaluations that are left; None for any number."""
        return None if self.limits.evaluations is None else max(0, self.limits.evaluations - self.met)

    @property
    def met(self) -> int:
        """Different sets that the search has looked at."""
        return self.evaluations + self.from_journal

    def check(self) -> None:
        """Raises `Spent` when nothing is left."""
        if self.limits.seconds is not None and self.seconds >= self.limits.seconds:
            raise Spent(f"stopped after {self.limits.seconds:g} s: the best so far")
        if self.left == 0:
            raise Spent(f"stopped after {self.met:,} scored sets: the best so far")
