"""Forward and backward, and the better set of each size."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategies.backward import Backward
from chaff.methods.search.strategies.forward import Forward
from chaff.methods.search.strategy import check_least_one
from chaff.results.trail import Move
from chaff.work import Work

MANY_FEATURES = 600  # a whole backward path costs the cube of the features


@dataclass(frozen=True)
class Both:
    """Forward and backward, one after the other; above 600 features forward only, to 300 (or `size`), and a note reports it.

    Parameters
    ----------
    size : int, float or None
        Largest set that forward goes to.
    patience : int or None
        See `Forward`.

    Examples
    --------
    >>> import chaff
    >>> chaff.Search(strategy="both").strategy
    Both(size=None, patience=None)
    """

    size: int | float | None = None
    patience: int | None = None

    name: ClassVar[str] = "both"

    def __post_init__(self) -> None:
        check_least_one(size=self.size, patience=self.patience)

    def _forward_only(self, scorer: SubsetScorer) -> int | float | None:
        """The size to go to where it goes forward only."""
        return (self.size or MANY_FEATURES // 2) if len(scorer.features) > MANY_FEATURES else None

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        shortened = self._forward_only(scorer)
        yield from Forward(shortened or self.size, self.patience).moves(scorer, pinned, work)
        if shortened is None:
            yield from Backward(self.patience).moves(scorer, pinned, work)

    def most_evaluations(self, features: int, pinned: int) -> int:
        forward = Forward(self.size).most_evaluations(features, pinned)
        return forward + (Backward().most_evaluations(features, pinned) if features <= MANY_FEATURES else 0)

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        size = self._forward_only(scorer)
        words = f'{len(scorer.features):,} features: forward only, to {size}; strategy = "backward" walks the other way'
        return () if size is None else (words,)
