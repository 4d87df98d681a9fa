"""Decoys: columns that are known to be noise, and targets that are known to be wrong."""

from __future__ import annotations

from dataclasses import replace
from typing import Protocol

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.table.kinds import Column
from chaff.table.row_orders import between_groups
from chaff.table.source import Source
from chaff.work import Work

MOST = 10_000
TAKES_PART = ("number", "binary", "category")


class Rows(Protocol):
    """What is read of a table."""

    @property
    def features(self) -> tuple[str, ...]: ...
    @property
    def source(self) -> Source: ...
    @property
    def rows(self) -> Ints: ...
    @property
    def y_all(self) -> Floats: ...
    @property
    def y(self) -> Floats: ...
    @property
    def groups(self) -> Ints | None: ...
    @property
    def order(self) -> Floats | None: ...
    def __len__(self) -> int: ...
    def kind(self, name: str, /) -> str: ...
    def column(self, name: str, /) -> Column: ...


def made_decoys(table: Rows, count: int, seed: int) -> list[Column]:
    """Columns over every row of the source, every other one a shuffled copy and one newly drawn."""
    if not 1 <= count <= MOST:
        raise UsageError(f"decoys: count must be 1 to {MOST:,}, not {count}")
    able = [f for f in table.features if table.kind(f) in TAKES_PART and f not in table.source.decoys]
    if not able:
        raise UsageError("decoys: no feature is a number or a category, so there is nothing to copy")
    work = Work(seed)
    originals: list[str] = []
    while len(originals) < count:  # every feature once before any is twice
        originals += [able[k] for k in work.stream("decoys", len(originals)).permutation(len(able))] if count < len(able) else able
    out, width = [], max(2, len(str(count)))
    for k, name in enumerate(originals[:count], 1):
        how = "shuffled" if k % 2 else "drawn_like"
        stream = work.stream("decoy", k, name)
        make = _shuffled if k % 2 else _drawn
        out.append(_over_source(table, f"decoy_{k:0{width}}_{how}_{name}", table.column(name), make(table, table.column(name), stream)))
    return out


def _over_source(table: Rows, name: str, like: Column, values: Floats) -> Column:
    """Cells of the rows in view in a column as long as the source; missing elsewhere."""
    cells = np.full(table.source.rows, np.nan)
    cells[table.rows] = values
    return replace(like, name=name, values=cells)


def _shuffled(table: Rows, column: Column, stream: np.random.Generator) -> Floats:
    return column.values[between_groups(len(table), table.groups, table.order, stream)]


def _drawn(table: Rows, column: Column, stream: np.random.Generator) -> Floats:
    """Drawn from the column's values, gaps as often as there are: where rows hang together, a second shuffle of the cells whose
    present values are replaced rank by rank by newly drawn ones, so that it hangs together as they do."""
    values = column.values
    present = values[~np.isnan(values)]
    if table.groups is None and table.order is None:
        new = values[stream.integers(0, values.size, values.size)]
    else:
        new = _shuffled(table, column, stream)
        there = ~np.isnan(new)
        if column.kind == "number" and there.any():
            drawn = np.sort(stream.choice(present, int(there.sum())))
            new[there] = drawn[np.argsort(np.argsort(new[there], kind="stable"), kind="stable")]
    if column.kind == "number" and np.unique(present).size > present.size / 2:  # else its values would repeat where they never do
        there = ~np.isnan(new)
        step = np.diff(np.unique(present)).mean() if np.unique(present).size > 1 else 0.0
        new[there] += step * (stream.random(int(there.sum())) - 0.5)
    return np.asarray(new)


def noisy_target(table: Rows, share: float, seed: int) -> Floats:
    """The target over every row of the source with a share of those in view dealt out among themselves."""
    if not 0 < share <= 1:
        raise UsageError(f"label noise: share must be above 0 and at most 1, not {share}")
    stream = Work(seed).stream("label noise")
    n = len(table)
    subset: Ints = np.sort(stream.choice(n, max(2, min(n, round(share * n))), replace=False))
    y = table.y_all.copy()
    y[table.rows[subset]] = table.y[stream.permutation(subset)]
    return y
