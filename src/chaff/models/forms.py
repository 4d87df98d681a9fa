"""Numeric forms of a table: learned on training rows once a split, applied to other rows, sliced for each set of features."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from chaff.arrays import Ints
from chaff.errors import DataError, ModelError, nearest
from chaff.folds import make_folds
from chaff.models.protocols import Prepared, Sample
from chaff.table.bins import Binning, Bins
from chaff.table.design import Design
from chaff.table.moments import table_moments
from chaff.table.table import Table
from chaff.work import Work


@dataclass(frozen=True)
class MomentsForm:
    """Sums and cross-products over the rows."""

    features: tuple[str, ...]
    work: Work

    @classmethod
    def learn(cls, train: Table, work: Work) -> MomentsForm:
        return cls(train.features, work)

    def apply(self, rows: Table) -> Sample:
        return sample_of(rows, table_moments(rows, self.features, self.work))

    def select(self, rows: Sample, features: Sequence[str]) -> Sample:
        return _sliced(rows, features)


@dataclass(frozen=True)
class DesignForm:
    """A row-major matrix, a block of columns a feature, missing numbers still NaN."""

    features: tuple[str, ...]

    @classmethod
    def learn(cls, train: Table, work: Work) -> DesignForm:
        return cls(train.features)

    def apply(self, rows: Table) -> Sample:
        return sample_of(rows, Design.of(rows, self.features))

    def select(self, rows: Sample, features: Sequence[str]) -> Sample:
        return _sliced(rows, features)


@dataclass(frozen=True)
class BinsForm:
    """A byte a cell; edges and pooled levels learned on the training rows."""

    binning: Binning

    @classmethod
    def learn(cls, train: Table, work: Work) -> BinsForm:
        return cls(Binning.learn(train, train.features, work=work))

    def apply(self, rows: Table) -> Sample:
        return sample_of(rows.with_features(self.binning.features), self.binning.apply(rows))

    def select(self, rows: Sample, features: Sequence[str]) -> Sample:
        return _sliced(rows, features)


@dataclass(frozen=True)
class FrameForm:
    """A pandas frame: numbers as they are, categories with the levels of the whole table, missing cells missing."""

    features: tuple[str, ...]

    @classmethod
    def learn(cls, train: Table, work: Work) -> FrameForm:
        return cls(train.features)

    def apply(self, rows: Table) -> Sample:
        import pandas as pd

        return sample_of(rows, pd.DataFrame({f: _cells(rows, f) for f in self.features}, columns=list(self.features)))

    def select(self, rows: Sample, features: Sequence[str]) -> Sample:
        return replace(rows, features=tuple(features), data=rows.data[list(features)])


def _cells(rows: Table, name: str) -> Any:
    import pandas as pd

    column = rows.column(name)
    if not column.levels:
        return column.values
    return pd.Categorical.from_codes(np.where(column.missing, -1, np.nan_to_num(column.values)).astype(int), list(column.levels))


FORMS: dict[str, Callable[[Table, Work], Prepared]] = {
    "moments": MomentsForm.learn,
    "design": DesignForm.learn,
    "bins": BinsForm.learn,
    "frame": FrameForm.learn,
}


def learn_form(form: str, train: Table, work: Work, label: str = "a model") -> Prepared:
    """The form of that name, learned on these training rows.

    Raises
    ------
    ModelError
        When the model that goes by `label` asks for a form that there is none of.
    """
    if form not in FORMS:
        raise ModelError(f"{label} asks for the form '{form}'; choose from {', '.join(FORMS)}.{nearest(form, FORMS)}")
    return FORMS[form](train, work)


def sample(table: Table, form: str, work: Work | None = None) -> Sample:
    """All rows of a table in one form, learned on these same rows."""
    return learn_form(form, table, work or Work()).apply(table)


def sample_of(table: Table, data: Any) -> Sample:
    """What belongs to the rows, beside their data."""
    return Sample(table.features, data, table.targets, table.weights, table.target.classes, table.groups, table.order, table)


def take_rows(rows: Sample, which: Ints) -> Sample:
    """Fewer rows of a sample in a design, in bins or in a frame; `which` in ascending order, as a table keeps them."""
    data: Any = rows.data
    if isinstance(data, Bins):
        data = Bins(data.features, np.ascontiguousarray(data.codes[:, which]), data.counts, data.category)
    else:
        data = Design(data.layout, data.X[which]) if isinstance(data, Design) else data.iloc[which]
    return replace(
        rows,
        data=data,
        targets=rows.targets[which],
        weights=None if rows.weights is None else rows.weights[which],
        groups=None if rows.groups is None else rows.groups[which],
        order=None if rows.order is None else rows.order[which],
        table=None if rows.table is None else rows.table.take(which),
    )


def _sliced(rows: Sample, features: Sequence[str]) -> Sample:
    if tuple(features) == rows.features:
        return rows
    return replace(rows, features=tuple(features), data=rows.data.select(features))


def inner_splits(train: Sample, folds: int, work: Work) -> list[tuple[Ints, Ints]]:
    """(training rows, test rows) of each inner fold, made as the outer ones are: whole groups, in time, every class in its
    share, equal rows together. Fewer folds where rows, groups or classes are too few; none at all under four rows."""
    named = Work(work.key("inner folds"), 1)
    for k in range(folds, 1, -1):
        try:
            if train.table is None:
                return _plain(train, k, named)
            made = make_folds(train.table, k, 1, named)
            return [made.rows(s) for s in made.splits]
        except DataError:
            continue
    return []


def _plain(train: Sample, folds: int, work: Work) -> list[tuple[Ints, Ints]]:
    """Rows that come without a table: dealt out class by class."""
    y = train.targets.argmax(1) if train.targets.shape[1] > 1 else train.targets[:, 0]
    order = work.stream("rows").permutation(len(y))
    if train.classes:
        order = order[np.argsort(y[order], kind="stable")]
    part = np.empty(len(y), np.int64)
    part[order] = np.arange(len(y)) % folds
    if len(y) < 2 * folds or (train.classes and any(np.unique(y[part != k]).size < 2 for k in range(folds))):
        raise DataError("too few rows")
    return [(np.flatnonzero(part != k), np.flatnonzero(part == k)) for k in range(folds)]
