"""Design: a row-major float64 matrix with a block of columns per feature.

Which design columns stand for which feature: fixed by the whole table's schema, never by the target.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.table.kinds import MISSING_LEVEL
from chaff.table.on_disk.arrays import room
from chaff.table.on_disk.spilled import Spill
from chaff.table.table import Table

LEVELS_IN_LINEAR_FORM = 50  # past this many levels the rare ones of the training rows are pooled


@dataclass(frozen=True)
class Layout:
    """Design columns of some features, and the target columns behind them.

    A number or binary feature has one column; a category one 0/1 column per level, "(missing)" among them where cells are
    missing. Which level is the base, and which rare ones are pooled, is learned on training rows later.
    """

    features: tuple[str, ...]
    starts: Ints
    """int64 (features + 1,): columns of feature f are starts[f]..starts[f + 1] - 1."""
    columns: tuple[str, ...]
    category: Flags
    gaps: Ints
    """Design columns that may be missing (numbers and binaries with gaps)."""
    targets: int
    """How many target columns follow the design columns."""

    @classmethod
    def of(cls, table: Table, features: Sequence[str]) -> Layout:
        starts, names, category, gaps = [0], [], [], []
        for f in features:
            column = table.whole_column(f)
            if column.kind in ("category", "text"):
                levels = column.levels + ((MISSING_LEVEL,) if table.source.has_gaps(f) else ())
                names += [f"{f} = {level}" for level in levels]
            else:
                if table.source.has_gaps(f):
                    gaps.append(len(names))
                names.append(f)
            category.append(column.kind in ("category", "text"))
            starts.append(len(names))
        return cls(
            tuple(features),
            np.array(starts, np.int64),
            tuple(names),
            np.array(category, bool),
            np.array(gaps, np.int64),
            table.targets.shape[1],
        )

    @property
    def width(self) -> int:
        """Design columns, targets not counted."""
        return len(self.columns)

    def select(self, features: Sequence[str]) -> tuple[Layout, Ints]:
        """(the layout of fewer features, which design columns of this one they are)."""
        place = {n: k for k, n in enumerate(self.features)}
        which = [place[n] for n in features]
        picks = [np.arange(self.starts[f], self.starts[f + 1]) for f in which]
        columns = np.concatenate([*picks, np.empty(0, np.int64)]).astype(np.int64)
        starts = np.concatenate([[0], np.cumsum([p.size for p in picks])]).astype(np.int64)
        gaps = np.flatnonzero(np.isin(columns, self.gaps)).astype(np.int64)
        names = tuple(self.columns[k] for k in columns)
        return Layout(tuple(features), starts, names, self.category[which], gaps, self.targets), columns

    def columns_of(self, table: Table, where: slice, targets: Floats, out: Floats | None = None) -> Floats:
        """Column-major design columns and targets of some rows of the view, float64 (width + targets, rows).

        Missing numbers stay NaN; a category cell sets the column of its level, or of "(missing)", to 1.  `out` (float64
        (>= width + targets, >= rows)) is written to when given, so that a loop over blocks touches the same memory.
        """
        rows = len(range(*where.indices(len(table))))
        whole = np.empty((self.width + self.targets, rows)) if out is None else out[: self.width + self.targets, :rows]
        whole[self.width :] = targets[where].T
        if not self.category.any():
            table.chunk(self.features, where, whole)
            return whole
        block = table.chunk(self.features, where)
        every = np.arange(rows)
        for f in range(len(self.features)):
            lo, hi = int(self.starts[f]), int(self.starts[f + 1])
            if not self.category[f]:
                whole[lo] = block[f]
                continue
            whole[lo:hi] = 0.0
            codes = block[f]
            place = np.where(np.isnan(codes), hi - lo - 1, np.nan_to_num(codes)).astype(np.int64)
            whole[lo + place, every] = 1.0
        return whole


BLOCK = 8192  # rows turned at a time


@dataclass(frozen=True)
class Design:
    """Rows of some features, every level of a category carried, missing numbers still NaN.

    Fills, base levels and pools belong to whoever learned them on training rows; `filled` takes the fills.
    """

    layout: Layout
    X: Floats
    """float64 (rows, layout.width)."""
    spill: Spill | None = field(default=None, repr=False)
    """Where room is found for more of these rows."""

    @classmethod
    def of(cls, table: Table, features: Sequence[str]) -> Design:
        layout = Layout.of(table, features)
        X = room(table.source.spill, (len(table), layout.width))
        targets = table.targets
        for start in range(0, len(table), BLOCK):
            where = slice(start, start + BLOCK)
            X[where] = layout.columns_of(table, where, targets)[: layout.width].T
        return cls(layout, X, table.source.spill)

    def select(self, features: Sequence[str]) -> Design:
        """The same rows with fewer features."""
        layout, columns = self.layout.select(features)
        X = room(self.spill, (len(self.X), len(columns)))
        for start in range(0, len(X), BLOCK):
            X[start : start + BLOCK] = self.X[start : start + BLOCK, columns]
        return Design(layout, X, self.spill)

    def filled(self, means: Floats) -> Floats:
        """The matrix with each missing number at `means` (float64 (width,), in the columns' own units)."""
        return self._filled(means, 0.0)

    def about(self, means: Floats) -> Floats:
        """The matrix less `means`, each missing number at its mean."""
        return self._filled(means, means)

    def product(self, means: Floats, coefficients: Floats) -> Floats:
        """`about(means) @ coefficients`, some rows at a time."""
        out = np.empty((len(self.X), coefficients.shape[1]))
        for start in range(0, len(out), BLOCK):
            subset = self.X[start : start + BLOCK]
            out[start : start + BLOCK] = (np.where(np.isnan(subset), means[None, :], subset) - means) @ coefficients
        return out

    def _filled(self, means: Floats, less: Floats | float) -> Floats:
        out = room(self.spill, self.X.shape)
        for start in range(0, len(out), BLOCK):
            subset = self.X[start : start + BLOCK]
            out[start : start + BLOCK] = np.where(np.isnan(subset), means[None, :], subset) - less
        return out
