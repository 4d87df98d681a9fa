"""The engine for linear models: cross-validated squared errors in closed form, from the moments of the folds' parts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from chaff.arrays import Floats
from chaff.errors import DataError
from chaff.evaluate.closed_split import ClosedSplit, close_split, close_splits, part_sums
from chaff.evaluate.fitted import Set, truth_of
from chaff.evaluate.growing_walk import GrowingWalk, can_grow
from chaff.evaluate.walk import ClosedWalk, Walk
from chaff.folds import Folds
from chaff.kernels.set_errors import set_errors
from chaff.metrics import Metric, RowLosses, parts_of_r2
from chaff.models.protocols import ClosedForm, Model
from chaff.results.score import Score
from chaff.stats.tolerances import SINGULAR
from chaff.table.design import Design, Layout
from chaff.table.moments import Moments
from chaff.table.table import Table
from chaff.work import Work

CLOSED_FORM_BYTES = 6 << 30  # past this the closed form is built for each set by itself
MEMORY_SHARE = 0.8  # of the memory that was said when the table was opened
A_BLOCK = 25  # sets that a worker takes at a time


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
