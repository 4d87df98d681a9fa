"""The engine for linear models: cross-validated squared errors in closed form, from the moments of the folds' parts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import DataError
from chaff.evaluate.fitted import Set, truth_of
from chaff.evaluate.growing_walk import GrowingWalk, can_grow
from chaff.evaluate.walk import ClosedWalk, Walk
from chaff.folds import Folds, Split
from chaff.kernels.set_errors import set_errors
from chaff.metrics import Metric, RowLosses, parts_of_r2
from chaff.models.protocols import ClosedForm, Model
from chaff.results.score import Score
from chaff.stats.least_squares import pivoted_solve
from chaff.stats.tolerances import SINGULAR
from chaff.table.design import Design
from chaff.table.layout import Layout
from chaff.table.levels import TrainedLevels
from chaff.table.moments import Moments, part_moments
from chaff.table.table import Table
from chaff.work import Work

CLOSED_FORM_BYTES = 6 << 30  # past this the closed form is built for each set by itself
MEMORY_SHARE = 0.8  # of the memory that was said when the table was opened
A_STRETCH = 65_536  # rows that are predicted at a time
A_BLOCK = 25  # sets that a worker takes at a time
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


def closed_form_bytes(table: Table, folds: Folds) -> int:
    """Memory of the closed form of all features at its peak."""
    return _bytes_of(table, sum(int(p.max()) + 1 for p in folds.parts), folds.count)


def _bytes_of(table: Table, parts: int, splits: int) -> int:
    """Parts (two accumulators and a product each) and two tables a split, which a walk copies."""
    layout = Layout.of(table, table.features)
    return 8 * (layout.width + layout.targets) ** 2 * (4 * parts + 4 * splits)


def most_bytes(table: Table) -> float:
    """What the closed form of a table may take."""
    limit = table.source.limit
    return CLOSED_FORM_BYTES if limit is None else min(CLOSED_FORM_BYTES, MEMORY_SHARE * limit.memory)


def fits_in_closed_form(table: Table, splits: int) -> bool:
    """Whether the closed form of all features stays within its memory over so many splits, each with a part of its own."""
    return _bytes_of(table, splits, splits) <= most_bytes(table)


def check_closed_form(table: Table, folds: Folds, instead: str) -> None:
    """Raises `DataError`, before anything is built, where the closed form takes too much memory; `instead` says what would help."""
    needed, most = closed_form_bytes(table, folds), most_bytes(table)
    if needed > most:
        raise DataError(
            f"search: {len(table.features):,} features need {needed / 2**30:.1f} GiB in closed form, over {most / 2**30:.2g}; {instead}"
        )


@dataclass(frozen=True)
class ErrorsOf:
    """Sets → test squared error of each per split, float64 (sets, splits); a singular set gets the pivoted fit."""

    splits: list[ClosedSplit]
    place: dict[str, int]

    def __call__(self, sets: Sequence[Set]) -> Floats:
        where = [sorted(self.place[n] for n in s) for s in sets]
        members = np.array([f for w in where for f in w], np.int64)
        ends = np.cumsum([len(w) for w in where]).astype(np.int64)
        out = np.empty((len(self.splits), len(sets)))
        for k, s in enumerate(self.splits):
            set_errors(s.A, s.V, s.starts, members, ends, s.width, SINGULAR, out[k])
        for k, j in zip(*np.nonzero(np.isnan(out)), strict=True):
            out[k, j] = self.splits[k].error_of(where[j])
        return out.T


class ClosedEngine:
    """See `chaff.evaluate.engine.Engine`. Every metric must be a function of squared errors."""

    def __init__(
        self, table: Table, model: Model, metrics: tuple[Metric, ...], folds: Folds, work: Work, parts: list[list[Moments]] | None = None
    ) -> None:
        self.table, self.model, self.metrics, self.folds, self.work = table, model, metrics, folds, work
        self.penalty = model.ridge_equivalent() if isinstance(model, ClosedForm) else 0.0
        self.place = {n: k for k, n in enumerate(table.features)}
        self._given = parts

    @property
    def fits_whole(self) -> bool:
        return closed_form_bytes(self.table, self.folds) <= most_bytes(self.table)

    @cached_property
    def parts(self) -> list[list[Moments]]:
        return self._given if self._given is not None else part_sums(self.table, self.table.features, self.folds, self.work)

    @cached_property
    def splits(self) -> list[ClosedSplit]:
        return close_splits(self.parts, self.folds.splits, self.penalty, self.work)

    @cached_property
    def on_all_rows(self) -> ClosedSplit:
        """Cross-products of all rows that some split uses: what a training error is made of. Its test rows are the same ones."""
        repeat = self.folds.splits[0].repeat
        used = sorted({j for s in self.folds.splits if s.repeat == repeat for j in (s.test, *s.train)})
        rows = Moments.sum_of([self.parts[repeat][j] for j in used])
        return close_split(rows, rows, self.penalty)

    def prepare(self) -> None:
        if self.fits_whole:
            _ = self.splits

    def scores(self, sets: Sequence[Set], splits: Sequence[int], near: Set | None = None) -> Floats:
        errors = self.errors(sets, splits)
        return np.stack([self._of_splits(m, errors, list(splits)) for m in self.metrics], axis=-1)

    def errors(self, sets: Sequence[Set], splits: Sequence[int] | None = None) -> Floats:
        """Test squared errors, float64 (sets, splits); over all splits when left out."""
        requested = list(range(self.folds.count) if splits is None else splits)
        if self.fits_whole:
            errors_of = ErrorsOf([self.splits[k] for k in requested], self.place)
            subset = [sets[k : k + A_BLOCK] for k in range(0, len(sets), A_BLOCK)]
            done = [e for block in self.work.each(errors_of, subset) for e in block]
        else:
            done = [self._alone(s)[requested] for s in sets]
        return np.array(done).reshape(len(sets), len(requested))

    def _alone(self, features: Set) -> Floats:
        """One set by itself, where the closed form of all features would not fit into memory."""
        names = [n for n in self.table.features if n in features]
        parts = part_sums(self.table, names, self.folds, self.work)
        splits = close_splits(parts, self.folds.splits, self.penalty, self.work)
        return np.array([s.error_of(range(len(names))) for s in splits])

    @cached_property
    def around(self) -> tuple[Floats, Floats]:
        """(squared error of the training mean, weight of the test rows) per split; the same for every set."""
        if self.fits_whole:
            splits = self.splits
        else:
            splits = close_splits(part_sums(self.table, [], self.folds, self.work), self.folds.splits, 0.0, self.work)
        return np.array([s.around for s in splits]), np.array([s.weight for s in splits])

    def losses(self, sets: Sequence[Set], splits: Sequence[int]) -> list[list[RowLosses]]:
        out: list[list[RowLosses]] = [[] for _ in sets]
        for k in splits:
            train, test = (self.table.take(rows) for rows in self.folds.rows(self.folds.splits[k]))
            truth, closed = truth_of(train, test), self.splits[k]
            X = Design.of(test, test.features).about(closed.means)
            for rows, features in zip(out, sets, strict=True):
                predicted = closed.predict([self.place[n] for n in features], X, truth.train_means)
                rows.append(self.metrics[0].losses(truth, predicted))
        return out

    def walk(self, start: Set) -> Walk | None:
        if not self.fits_whole:
            return None
        return (GrowingWalk if can_grow(self.splits, len(start)) else ClosedWalk)(self, self.splits, start)

    def score(self, features: Set, errors: Floats) -> Score:
        """A score from test squared errors per split."""
        return Score(features, self.metrics[0].name, self.values(errors[None])[0], self.folds.test_share)

    def values(self, errors: Floats) -> Floats:
        """(sets, splits) of the first metric from squared errors of the same shape."""
        return self._of_splits(self.metrics[0], errors, list(range(self.folds.count)))

    def _of_splits(self, metric: Metric, errors: Floats, splits: list[int]) -> Floats:
        """A metric that is a function of squared errors, for many sets at once: (sets, splits)."""
        around, weight = self.around
        weight = np.where(weight > 0, weight, 1.0)
        lost, none = np.maximum(errors, 0.0) / weight[splits], around / weight
        return parts_of_r2(lost, none[splits], float(none.mean())) if metric.name == "r2" else np.sqrt(lost)

    def inside(self, split: int) -> ClosedEngine | None:
        """Moments of the parts are shared, not learned again."""
        inner = self.folds.inside(self.folds.splits[split])
        parts = self.parts if self.fits_whole else None
        return ClosedEngine(self.table, self.model, self.metrics, inner, self.work, parts) if inner.splits else None
