"""What every family reads of a table, made once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from chaff.arrays import Bytes, Flags, Floats, Ints
from chaff.stats.pooled_metric import Units
from chaff.table.kinds import Column
from chaff.table.table import Table
from chaff.work import Work, task

FEWEST_A_LEVEL = 5
BLOCK = 1_000_000  # cells looked at together


def kind_of(table: Table, feature: str) -> str:
    """The kind as the statistics see it; "" for what takes no part."""
    kind = table.kind(feature)
    return kind if kind in ("number", "binary", "category") else ""


@dataclass(frozen=True)
class RelevanceData:
    """A table, how it is to be looked at, and the target in the forms that the families need."""

    table: Table
    work: Work
    bins: int
    bin_kind: str
    missing_level: bool | None
    """Whether missing is a level: None for categories only, True for every kind, False for none."""
    confidence: float | None
    pool_below: float
    neighbours: int
    sample_rows: int
    places: int
    memo: dict[str, Any] = field(default_factory=dict, compare=False)
    """What more than one family reads and is made once: the codes of the bins."""

    @property
    def regression(self) -> bool:
        return self.table.target.task == "regression"

    @cached_property
    def kinds(self) -> dict[str, str]:
        """Every feature's, as the statistics see it."""
        return {f: kind_of(self.table, f) for f in self.table.features}

    @property
    def y(self) -> Floats:
        return self.table.y

    @cached_property
    def classes(self) -> Ints:
        return self.table.y.astype(np.int64)

    @cached_property
    def class_bytes(self) -> Bytes:
        """Classes in a byte each, where they fit: an index that cannot be negative, and an eighth of the memory."""
        return self.table.y.astype(np.uint8)

    @cached_property
    def class_counts(self) -> Ints:
        return np.bincount(self.classes, minlength=self.count)

    @property
    def count(self) -> int:
        """Classes of the target."""
        return len(self.table.target.classes)

    @cached_property
    def weights(self) -> Floats | None:
        """Scaled to add up to the rows, so that degrees of freedom count rows."""
        w = self.table.weights
        return None if w is None else w * (len(self.table) / w.sum())

    @cached_property
    def weight_array(self) -> Floats:
        return np.empty(0) if self.weights is None else self.weights

    @property
    def units(self) -> Units | None:
        return self.table.units

    def units_of(self, present: Flags | None) -> Units | None:
        """The units of the rows that are present; None for `present` when none is missing."""
        if self.units is None or present is None:
            return self.units
        return self.units.take(np.flatnonzero(present))

    @property
    def shared_words(self) -> str:
        t = self.table
        parts = [("groups", t.groups), ("order", t.order), ("weights", t.weights)]
        return " and ".join(f"the {word}" for word, subset in parts if subset is not None)

    @property
    def witness_words(self) -> str:
        t = self.table
        if t.groups is not None:
            count = f"{np.unique(t.groups).size:,} groups"
            return count if t.order is None else f"{count}, and frequencies of the series where those say less"
        return "frequencies of the series" if t.order is not None else "rows by their weight"

    @property
    def rows(self) -> Ints:
        """Rows that count of every feature: those with a value, or with a level where missing is one."""
        if "rows" not in self.memo:
            self.memo["rows"] = np.array(self.work.each(task(_rows_of, self), list(self.kinds)), np.int64)
        return np.asarray(self.memo["rows"])

    def of_kind(self, *kinds: str) -> list[str]:
        return [f for f, kind in self.kinds.items() if kind in kinds]

    def levels_of(self, name: str) -> tuple[Ints, int]:
        """(level of every row, how many levels): missing is a level of its own, or -1 when it is not to be one."""
        column = self.table.column(name)
        binary_number = column.kind == "binary"
        missing = column.missing
        count = max(len(column.levels), 2 if binary_number else 1)
        codes = np.where(missing, -1.0, column.values).astype(np.int64)
        own = self.missing_level if self.missing_level is not None else column.kind == "category"
        if own and missing.any():
            codes[missing] = count
            count += 1
        return codes, count

    def blocks(self, features: Sequence[str], size: int = 16) -> list[list[str]]:
        return [list(features[k : k + size]) for k in range(0, len(features), size)]

    def columns(self, features: Sequence[str]) -> list[Column]:
        return [self.table.column(f) for f in features]

    def rest(self, values: Floats) -> tuple[Flags | None, Floats]:
        """(which rows are present, their values); None for the rows when none is missing."""
        missing = np.isnan(values)
        return (None, values) if not missing.any() else (~missing, values[~missing])


def _rows_of(view: RelevanceData, name: str) -> int:
    if view.kinds[name] == "category":
        return int(np.count_nonzero(view.levels_of(name)[0] >= 0))
    values = view.table.column(name).values
    return values.size - sum(int(np.count_nonzero(np.isnan(values[k : k + BLOCK]))) for k in range(0, values.size, BLOCK))


def too_many_levels(table: Table, feature: str) -> bool:
    """Whether the levels come so seldom that information on them is mostly chance."""
    return table.kind(feature) == "category" and len(table) < FEWEST_A_LEVEL * len(table.levels(feature))
