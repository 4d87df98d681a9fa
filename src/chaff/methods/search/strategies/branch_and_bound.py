"""Branch and bound: the best sets of each size there are, by training error, without looking at all of them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from chaff.errors import UsageError
from chaff.evaluate.closed import ClosedEngine
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategy import as_move, check_least_one, largest
from chaff.results.trail import Move
from chaff.stats.best_subsets import MOST_FEATURES, BestSubsets, best_subsets
from chaff.work import Work

IN_A_BUDGET = 200  # sets of each size that are looked at for one that may cost what it costs


@dataclass(frozen=True)
class BranchAndBound:
    """Best sets of each size by training error, then cross-validated. For least squares and ridge.

    Parameters
    ----------
    sets : int
        So many of each size are kept and cross-validated: the best by training error need not be the best on new rows.
    size : int, float or None
        Largest set: a number, or a share of the features below 1; None for all sizes.

    Notes
    -----
    Exact: no other set of that size has a smaller error (with ridge, error and penalty together) on these rows. Up to about 40
    features in seconds, a minute where they are nearly copies of one another; over 60 refused. Source: Furnival and Wilson, 1974.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    >>> chaff.search(lots, "ridge", "branch and bound", honest=False).frame["size"].tolist()
    [1, 2, 3, 4]
    """

    sets: int = 1
    size: int | float | None = None

    name: ClassVar[str] = "branch and bound"

    def __post_init__(self) -> None:
        check_least_one(sets=self.sets, size=self.size)

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        result = self._best(scorer, pinned)
        sets = [pinned | {scorer.features[f] for f in members} for members in result.members]
        for score in scorer.many([s for s in sets if s and scorer.affordable(s)]):
            yield as_move("try", "", score, self.name)

    def _best(self, scorer: SubsetScorer, pinned: frozenset[str]) -> BestSubsets:
        engine = scorer.engine
        if not isinstance(engine, ClosedEngine):
            raise UsageError(
                f"branch and bound is for least squares and ridge by R² or RMSE, not for {scorer.model.label} by {scorer.metric.label}: "
                "take floating, genetic or recursive"
            )
        free = [f for f in scorer.features if f not in pinned and scorer.affordable(pinned | {f})]
        if len(free) > MOST_FEATURES:
            raise UsageError(
                f"branch and bound: {len(free)} features are more than {MOST_FEATURES}: leave features out first, or take floating, "
                "genetic or swap"
            )
        whole, place = engine.on_all_rows, engine.place
        fixed = np.array(sorted(place[f] for f in pinned), np.int64)
        most = largest(self.size, len(scorer.features)) - len(pinned)
        numbers = np.array([place[f] for f in free], np.int64)
        targets = whole.A.shape[0] - whole.width
        sets = self.sets if scorer.tally.limits.total_cost is None else max(self.sets, IN_A_BUDGET)
        return best_subsets(whole.A, whole.starts, fixed, numbers, targets, sets, 0, max(most, 0), scorer.tally.check)

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        if scorer.tally.limits.total_cost is None:
            return ()
        return (f"of each size the best {IN_A_BUDGET} whatever they cost, and of these those within the total",)
