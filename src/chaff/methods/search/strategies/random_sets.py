"""Random sets: the yardstick that a clever search has to beat at the same number of evaluations."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategy import as_move, check_least_one, largest
from chaff.results.trail import Move
from chaff.work import Work


@dataclass(frozen=True)
class RandomSets:
    """Random sets, all sizes equally likely.

    Parameters
    ----------
    sets : int
        How many sets are drawn and scored.
    size : int, float or None
        Largest set that is drawn: a number, or a share of the features below 1; None for all.

    Examples
    --------
    >>> import chaff
    >>> chaff.Search(strategy=chaff.RandomSets(sets=50)).strategy.sets
    50
    """

    sets: int = 200
    size: int | float | None = None

    name: ClassVar[str] = "random"
    leaps: ClassVar[bool] = True
    """It does not walk through the sizes one by one."""

    def __post_init__(self) -> None:
        check_least_one(sets=self.sets, size=self.size)

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        free = sorted(set(scorer.features) - pinned)
        most = max(largest(self.size, len(scorer.features)), len(pinned), 1)
        drawn = []
        for k in range(self.sets):
            stream = work.stream("random set", k)
            size = int(stream.integers(max(1, len(pinned)), most + 1)) - len(pinned)
            one = pinned
            for j in stream.permutation(len(free)):
                if len(one) < size + len(pinned) and scorer.affordable(one | {free[j]}):
                    one = one | {free[j]}
            drawn.append(one)
        for subset in (drawn[k : k + 50] for k in range(0, len(drawn), 50)):  # in batches, so that it can be stopped between them
            for score in scorer.many(subset):
                yield as_move("draw", "", score, "random")

    def most_evaluations(self, features: int, pinned: int) -> int:
        return self.sets

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()
