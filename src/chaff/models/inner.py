"""Folds of a model's own, among its training rows: for a penalty, or for when to stop."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Ints
from chaff.errors import DataError
from chaff.folds import make_folds
from chaff.models.protocols import Sample
from chaff.work import Work


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
