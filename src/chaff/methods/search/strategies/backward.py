"""Backward elimination: from all features the one that is missed least, one at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategy import as_move, check_least_one, steps
from chaff.results.trail import Move
from chaff.work import Work


@dataclass(frozen=True)
class Backward:
    """Backward elimination, until one feature (or the pins) is left.

    Parameters
    ----------
    patience : int or None
        Stop after so many moves in a row that beat nothing seen so far; None goes to the end.

    Notes
    -----
    Source: Marill and Green, 1963.

    Examples
    --------
    >>> import chaff
    >>> chaff.Search(strategy="backward").strategy
    Backward(patience=None)
    """

    patience: int | None = None

    name: ClassVar[str] = "backward"

    def __post_init__(self) -> None:
        check_least_one(patience=self.patience)

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        walk = scorer.walk(scorer.features)
        left = [f for f in scorer.features if f not in pinned]
        yield as_move("start", "", walk.score, "backward")
        yield from steps(walk, scorer, left, len(left) - (0 if pinned else 1), "backward", self.patience)

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()
