"""The rows and columns that a linear model of a table is fitted on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import DataError, UsageError
from chaff.methods.overlap.overlap_data import able
from chaff.table.design import Design
from chaff.table.kinds import MISSING_LEVEL
from chaff.table.levels import TrainedLevels
from chaff.table.moments import table_moments
from chaff.table.table import Table

LARGEST = 6e9  # bytes


@dataclass(frozen=True)
class LinearForm:
    """Complete rows of some features, a category by all its levels but the commonest."""

    table: Table
    """The rows in use, with these features only."""
    columns: tuple[str, ...]
    starts: Ints
    X: Floats
    y: Floats
    notes: tuple[str, ...]

    @property
    def features(self) -> tuple[str, ...]:
        return self.table.features

    @property
    def owner(self) -> Ints:
        """Feature of every column."""
        return np.repeat(np.arange(len(self.features)), np.diff(self.starts))

    def level_of(self, column: int) -> str:
        """The level that a column of a category stands for; empty for a number."""
        feature = self.features[int(self.owner[column])]
        category = self.table.kind(feature) == "category"
        return self.columns[column].removeprefix(f"{feature} = ") if category else ""


def commonest_level(table: Table, feature: str) -> str:
    """The level that has no column: every coefficient of the category is told against it."""
    column = table.column(feature)
    names = [*column.levels, MISSING_LEVEL]
    codes = np.where(column.missing, len(column.levels), np.nan_to_num(column.values)).astype(np.int64)
    return names[int(np.argmax(np.bincount(codes, minlength=len(names))))]


def linear_form(table: Table, features: Sequence[str] | None = None, task: str = "regression") -> LinearForm:
    """Rows where target, weight and every number column are there.

    Raises
    ------
    UsageError
        When the target does not fit.
    DataError
        When no row is complete, or the matrix would not fit into memory: says what would.
    """
    table.check_target()
    if task == "regression" and table.target.task != "regression":
        raise UsageError(f"target '{table.target.name}' has classes: least squares needs a number; chaff.linear_summary fits two classes")
    table = able(table, features)
    size = 8.0 * len(table) * len(table.features)
    if size > LARGEST:
        raise DataError(f"the rows of {len(table.features):,} features would take {size / 1e9:.1f} GB: name fewer with features=…")
    gaps = np.zeros(len(table), bool)
    for name in table.features:
        if table.kind(name) != "category":
            gaps |= table.column(name).missing
    if table.weights is not None:
        gaps |= table.weights <= 0
    notes = []
    if gaps.any():
        left = int((~gaps).sum())
        if left < 3:
            worst = max(table.features, key=lambda f: table.column(f).missing.mean())
            raise DataError(f"only {left} rows have every column; '{worst}' is missing most: leave it out, flag or fill it")
        notes.append(f"{left:,} complete rows of {len(table):,}")
        table = table.take(np.flatnonzero(~gaps))
    design = Design.of(table, table.features)
    levels = TrainedLevels.learn(table_moments(table, table.features))
    X = design.X
    for pool in levels.pools:
        X[:, pool[0]] = X[:, pool].sum(1)
    X = np.ascontiguousarray(X[:, levels.columns])
    named = tuple(design.layout.columns[k] for k in levels.columns)
    sizes = np.diff(levels.starts)
    still = [f for f, s in zip(table.features, sizes, strict=True) if not s]
    if still:
        notes.append(f"without spread, so left out: {', '.join(still[:5])}")
        table = table.with_features([f for f in table.features if f not in still])
    if not table.features:
        raise DataError(f"no feature of {table.label} has any spread over its complete rows")
    starts = np.concatenate([[0], np.cumsum(sizes[sizes > 0])]).astype(np.int64)
    if levels.pools:
        notes.append("categories over 50 levels: their rare levels share one coefficient")
    return LinearForm(table, named, starts, X, table.y, tuple(notes))
