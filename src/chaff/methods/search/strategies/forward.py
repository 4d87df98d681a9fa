"""Forward selection: from nothing (or the pins) the feature that helps most, one at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategy import as_move, check_least_one, steps
from chaff.results.trail import Move
from chaff.work import Work


@dataclass(frozen=True)
class Forward:
    """Forward selection.

    Parameters
    ----------
    size : int or None
        Largest set to go to; None for all features.
    patience : int or None
        Stop after so many moves in a row that beat nothing seen so far; None goes to the end, which costs next to nothing
        for linear models.

    Notes
    -----
    Source: Efroymson, 1960.

    Examples
    --------
    >>> import chaff
    >>> chaff.Search(strategy=chaff.Forward(size=10)).strategy.size
    10
    """

    size: int | None = None
    patience: int | None = None

    name: ClassVar[str] = "forward"

    def __post_init__(self) -> None:
        check_least_one(size=self.size, patience=self.patience)

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        walk = scorer.walk(pinned)
        left = [f for f in scorer.features if f not in pinned]
        most = min(self.size or len(scorer.features), len(scorer.features))
        if pinned:
            yield as_move("start", "", walk.score, "forward")
        yield from steps(walk, scorer, left, most - len(pinned), "forward", self.patience)

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()
