"""Which design columns stand for which feature: fixed by the whole table's schema, never by the target."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.table.kinds import MISSING_LEVEL
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
