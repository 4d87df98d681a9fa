"""Backward elimination: from all features the one that is missed least, one at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategy import as_move, check_least_one, largest, steps, steps_evaluations
from chaff.results.trail import Move
from chaff.work import Work


@dataclass(frozen=True)
class Backward:
    """Backward elimination, until one feature (or the pins) is left.

    Parameters
    ----------
    patience : int or None
        Stop after so many moves in a row that beat nothing seen so far; None goes to the end.
    size : int, float or None
        Smallest set to go to: a number, or a share of the features below 1 (rounded up); None for one feature, or the pins.
    step : int or float
        Features that go in a move: a number, or a share of those that are in (rounded down, one at least); those that are missed
        least, each by itself.

    Notes
    -----
    Source: Marill and Green, 1963.

    Examples
    --------
    >>> import chaff
    >>> chaff.Search(strategy="backward").strategy
    Backward(patience=None, size=None, step=1)
    """

    patience: int | None = None
    size: int | float | None = None
    step: int | float = 1

    name: ClassVar[str] = "backward"

    def __post_init__(self) -> None:
        check_least_one(patience=self.patience, size=self.size, step=self.step)

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        walk = scorer.walk(scorer.features)
        left = [f for f in scorer.features if f not in pinned]
        yield as_move("start", "", walk.score, "backward")
        least = max(0 if pinned else 1, 0 if self.size is None else largest(self.size, len(scorer.features)) - len(pinned))
        yield from steps(walk, scorer, left, len(left) - least, "backward", self.patience, self.step)

    def most_evaluations(self, features: int, pinned: int) -> int:
        return steps_evaluations(features - pinned, features - max(pinned, 0 if self.size is None else largest(self.size, features)))

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()
