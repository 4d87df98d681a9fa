"""One split in closed form: what scoring a set of columns on it needs, from the moments of the parts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.folds import Folds, Split
from chaff.stats.linear_model import pivoted_solve
from chaff.table.levels import TrainedLevels
from chaff.table.moments import Moments, part_moments
from chaff.table.table import Table
from chaff.work import Work

A_STRETCH = 65_536  # rows that are predicted at a time
WIDE = 1000  # columns from which splits are worth handing out to workers


@dataclass(frozen=True)
class ClosedSplit:
    """One split: training cross-products and test second moments about the training means, live columns only."""

    A: Floats
    """float64 (q, q): penalised training cross-products of [columns, targets]."""
    V: Floats
    """float64 (q, q): test second moments about the training means."""
    starts: Ints
    """int64 (features + 1,): columns of each feature."""
    width: int
    around: float
    """Squared error of the training mean on the test rows, summed over targets."""
    weight: float
    """Weight of the test rows."""
    levels: TrainedLevels
    means: Floats
    """float64 (design width,): training means in the columns' own units, which also fill missing cells."""

    def solve(self, features: Sequence[int]) -> tuple[Ints, Floats]:
        """(live columns of the set, their coefficients (k, t)); a singular set gets the pivoted fit."""
        cols = np.concatenate([np.arange(self.starts[f], self.starts[f + 1]) for f in sorted(features)] or [np.empty(0, int)])
        cols = cols.astype(np.int64)
        t = np.arange(self.width, self.A.shape[0])
        return cols, pivoted_solve(self.A[np.ix_(cols, cols)], self.A[np.ix_(cols, t)])

    def error_of(self, features: Sequence[int]) -> float:
        """Test squared error of the set's fit."""
        cols, beta = self.solve(features)
        t = np.arange(self.width, self.A.shape[0])
        V = self.V
        error = np.diagonal(V)[t].sum() - 2.0 * (beta * V[np.ix_(cols, t)]).sum()
        return float(error + (beta * (V[np.ix_(cols, cols)] @ beta)).sum())

    def predict(self, features: Sequence[int], about_means: Floats, centre: Floats) -> Floats:
        """(n, t) from a design about the training means."""
        cols, beta = self.solve(features)
        spread = np.zeros((about_means.shape[1], beta.shape[1]))
        spread[self.levels.columns[cols]] = beta
        self.levels.spread(spread)
        used = np.flatnonzero(spread.any(1))
        out = np.empty((len(about_means), centre.size))
        for start in range(0, len(out), A_STRETCH):
            out[start : start + A_STRETCH] = centre + about_means[start : start + A_STRETCH, used] @ spread[used]
        return out


def close_split(train: Moments, test: Moments, penalty: float) -> ClosedSplit:
    """What scoring on one split needs. Training moments are a *sum* of training parts, never total minus fold: one huge
    cell in the test rows would take the digits of every training figure with it."""
    layout = train.layout
    levels = TrainedLevels.learn(train)
    targets = np.arange(layout.width, layout.width + layout.targets)
    keep = np.concatenate([levels.columns, targets])
    inner = np.ix_(keep, keep)
    if not levels.pools and keep.size == targets[-1] + 1:
        A, V = train.about(train.means), test.about(train.means)
    else:
        A = np.ascontiguousarray(levels.fold(train.about(train.means))[inner])
        V = np.ascontiguousarray(levels.fold(test.about(train.means))[inner])
    width = levels.columns.size
    A[np.arange(width), np.arange(width)] *= 1.0 + penalty
    around = float(np.diagonal(V)[width:].sum())
    means = (train.means + train.shift)[: layout.width]
    return ClosedSplit(A, V, levels.starts, width, around, test.weight, levels, means)


def part_sums(table: Table, features: Sequence[str], folds: Folds, work: Work) -> list[list[Moments]]:
    """Moments of every part of every repeat: one pass over the rows each."""
    return [part_moments(table, features, part, int(part.max()) + 1, work) for part in folds.parts]


def close_splits(parts: list[list[Moments]], splits: Sequence[Split], penalty: float, work: Work) -> list[ClosedSplit]:
    """Every split in closed form, from the moments of the parts it is made of."""

    close = CloseSplit(parts, penalty)
    wide = parts[0][0].sums.size > WIDE  # below that, handing out the work costs more than it saves
    return work.each(close, splits) if wide else [close(s) for s in splits]


@dataclass(frozen=True)
class CloseSplit:
    """Split → its closed form, from the moments of the parts."""

    parts: list[list[Moments]]
    penalty: float

    def __call__(self, split: Split) -> ClosedSplit:
        moments = self.parts[split.repeat]
        train = Moments.sum_of([moments[j] for j in split.train])
        return close_split(train, moments[split.test], self.penalty)
