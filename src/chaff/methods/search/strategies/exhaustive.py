"""Exhaustive: every set there is, for few features."""

from __future__ import annotations

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


@dataclass(frozen=True)
class Exhaustive:
    """Every set of features up to a size.

    Parameters
    ----------
    size : int, float or None
        Largest set: a number, or a share of the features below 1; None for all.

    Notes
    -----
    Refused over 200,000 sets: it says how many there are.

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> len(chaff.search(table, "exhaustive").more["trail"])
    7
    """

    size: int | float | None = None

    name: ClassVar[str] = "exhaustive"

    def __post_init__(self) -> None:
        check_least_one(size=self.size)

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        free = sorted(set(scorer.features) - pinned)
        most = largest(self.size, len(scorer.features)) - len(pinned)
        count = sum(comb(len(free), k) for k in range(most + 1))
        if count > MOST_SETS:
            raise UsageError(
                f"exhaustive: {count:,} sets of {len(free)} features, more than {MOST_SETS:,}: say a smaller size, leave features out "
                "first, or take floating or swap"
            )
        sets = (pinned | set(some) for k in range(0 if pinned else 1, most + 1) for some in combinations(free, k))
        while batch := list(islice(sets, A_BATCH)):
            for score in scorer.many(batch):
                yield as_move("try", "", score, "exhaustive")

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()
