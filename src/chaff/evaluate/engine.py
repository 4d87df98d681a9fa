"""Engine: how sets of features are scored on folds. It knows nothing of memo, journal or budget; the scorer is its door."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

from chaff.arrays import Floats
from chaff.metrics import Metric, RowLosses

if TYPE_CHECKING:
    from chaff.evaluate.walk import Walk

Set = frozenset[str]


class Engine(Protocol):
    """One table, one model, some folds."""

    metrics: tuple[Metric, ...]
    """The metric that decides, and others that come for free."""

    def prepare(self) -> None:
        """Do now what the first score would do."""
        ...

    def scores(self, sets: Sequence[Set], splits: Sequence[int], near: Set | None = None) -> Floats:
        """float64 (sets, splits, metrics). near : a set that all of them are near to, for models that can start from its fit."""
        ...

    def losses(self, sets: Sequence[Set], splits: Sequence[int]) -> list[list[RowLosses]]:
        """Per set and split, the loss of every test row under the first metric."""
        ...

    def walk(self, start: Set) -> Walk | None:
        """A walk that knows every single change without a refit; None where there is nothing cheaper than scoring each."""
        ...

    def inside(self, split: int) -> Engine | None:
        """The same on folds among one split's training rows; None when those are a single part."""
        ...
