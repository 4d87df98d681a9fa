"""Forward selection: from nothing (or the pins) the feature that helps most, one at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategy import as_move, check_least_one, largest, steps, steps_evaluations
from chaff.results.trail import Move
from chaff.work import Work


@dataclass(frozen=True)
class Forward:
    """Forward selection.

    Parameters
    ----------
    size : int, float or None
        Largest set to go to: a number, or a share of the features below 1 (rounded up); None for all features.
    patience : int or None
        Stop after so many moves in a row that beat nothing seen so far; None goes to the end, which costs next to nothing
        for linear models.
    step : int or float
        Features that come in a move: a number, or a share of those left out (rounded down, one at least); the best ones, each by
        itself.

    Notes
    -----
    Source: Efroymson, 1960.

    Examples
    --------
    >>> import chaff
    >>> chaff.Search(strategy=chaff.Forward(size=10)).strategy.size
    10
    """

    size: int | float | None = None
    patience: int | None = None
    step: int | float = 1

    name: ClassVar[str] = "forward"

    def __post_init__(self) -> None:
        check_least_one(size=self.size, patience=self.patience, step=self.step)

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        walk = scorer.walk(pinned)
        left = [f for f in scorer.features if f not in pinned]
        most = largest(self.size, len(scorer.features))
        if pinned:
            yield as_move("start", "", walk.score, "forward")
        yield from steps(walk, scorer, left, most - len(pinned), "forward", self.patience, self.step)

    def most_evaluations(self, features: int, pinned: int) -> int:
        return steps_evaluations(features - pinned, largest(self.size, features) - pinned)

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()
