"""Exhaustive: every set there is, for few features."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations, islice
from math import comb
from typing import ClassVar

from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategy import as_move, check_least_one, largest
from chaff.results.trail import Move
from chaff.work import Work

MOST_SETS = 200_000
A_BATCH = 500
INSTEAD = (
    f"over {MOST_SETS:,} are refused. Take branch and bound (linear models, the best of each size), floating or genetic, say a smaller "
    "size, or leave features out first"
)


@dataclass(frozen=True)
class Exhaustive:
    """Every set of features up to a size.

    Parameters
    ----------
    size : int, float or None
        Largest set: a number, or a share of the features below 1; None for all.

    Notes
    -----
    Refused over 200,000 sets: it says how many there are, and how long they would take.

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> len(chaff.search(table, "ridge", "exhaustive").moves)
    7
    """

    size: int | float | None = None

    name: ClassVar[str] = "exhaustive"

    def __post_init__(self) -> None:
        check_least_one(size=self.size)

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        free = sorted(set(scorer.features) - pinned)
        most = largest(self.size, len(scorer.features)) - len(pinned)
        count = self.most_evaluations(len(scorer.features), len(pinned))
        if count > MOST_SETS:
            raise UsageError(f"exhaustive: {count:,} sets of {len(free)} features{_how_long(scorer, pinned, count)}: {INSTEAD}")
        every = (pinned | set(subset) for k in range(0 if pinned else 1, most + 1) for subset in combinations(free, k))
        sets = (s for s in every if scorer.affordable(s))
        while batch := list(islice(sets, A_BATCH)):
            for score in scorer.many(batch):
                yield as_move("try", "", score, "exhaustive")

    def most_evaluations(self, features: int, pinned: int) -> int:
        most = largest(self.size, features) - pinned
        return sum(comb(features - pinned, k) for k in range(most + 1))

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()


def _how_long(scorer: SubsetScorer, pinned: frozenset[str], count: int) -> str:
    """How long so many sets would take, from one of half of the features."""
    names = sorted(scorer.features)
    sets = [pinned | set(names[k::2]) | set(names[k : k + 3]) for k in range(5)]
    scorer(sets[0])  # what is done once does not count
    began = time.perf_counter()
    scorer.many(sets[1:])
    seconds = count * (time.perf_counter() - began) / (len(sets) - 1)
    year, day, hour = 31_557_600.0, 86_400.0, 3_600.0
    for unit, of in (("years", year), ("days", day), ("hours", hour), ("minutes", 60.0)):
        if seconds >= 2 * of:
            return f" would take about {seconds / of:,.0f} {unit}" if seconds < 1e6 * year else " would take over a million years"
    return f" would take about {seconds:.0f} s"
