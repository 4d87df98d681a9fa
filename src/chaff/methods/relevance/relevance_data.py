"""What every family reads of a table, made once.

Which columns a statistic sets against each other: what its p is read from where rows are no independent witnesses.

Codes of features and target, in the kind of bins that was asked for; made once for all families that read them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from chaff.arrays import Bytes, Flags, Floats, Ints
from chaff.errors import UsageError
from chaff.stats.paired_loss import Units
from chaff.stats.ranks import average_ranks
from chaff.stats.supervised_bins import description_length_cuts
from chaff.table.bins import Binning, Bins, FeatureBins, equal_count_cuts
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


KINDS = ("equal counts", "equal width", "supervised")
MOST_BINS = 250


def coded(view: RelevanceData, features: list[str]) -> Bins:
    """Codes of the features by the kind of bins that was asked for; made once for all families."""
    if "codes" not in view.memo:
        view.memo["codes"] = _code(view, view.of_kind("number", "binary", "category"))
    codes: Bins = view.memo["codes"]
    return codes.select(features)


def _code(view: RelevanceData, features: list[str]) -> Bins:
    if view.bin_kind == "equal counts":
        return Binning.learn(view.table, features, view.bins, view.work).apply(view.table, view.work)
    made = view.work.each(task(_own_bins, view), features)
    return Binning(tuple(features), tuple(made)).apply(view.table, view.work)


def _own_bins(view: RelevanceData, name: str) -> FeatureBins:
    column = view.table.column(name)
    if column.kind != "number":
        return Binning.learn(view.table, [name], view.bins).bins[0]
    present = ~column.missing
    values = column.values[present]
    if not values.size:
        cuts = np.empty(0)
    elif view.bin_kind == "equal width":
        cuts = np.unique(np.linspace(values.min(), values.max(), view.bins + 1)[1:-1])
    else:
        cuts = description_length_cuts(values, view.classes[present], view.count)
    return FeatureBins(False, cuts, codes=cuts.size + 2)


def check_bins(bins: int, bin_kind: str) -> None:
    """What can be told of them without a table."""
    if bin_kind not in KINDS:
        raise UsageError(f"bin_kind must be one of {', '.join(KINDS)}, not '{bin_kind}'")
    if not 2 <= bins <= MOST_BINS:
        raise UsageError(f"bins must be between 2 and {MOST_BINS}, not {bins}")


def coded_target(view: RelevanceData) -> tuple[Ints, int]:
    """(code of every row, how many): the classes, or equal-count bins of a number."""
    if not view.regression:
        return view.classes, view.count
    cuts = equal_count_cuts(*np.unique(view.y, return_counts=True), view.bins)
    return np.searchsorted(cuts, view.y, side="left").astype(np.int64), cuts.size + 1


MOST_LEVELS = 50  # of a category; the rare ones beyond share one column

Contrast = tuple[Floats, Floats, Flags]
"""Columns of the feature (a, n) and of the target (b, n) over the rows present, and which rows those are."""


def values(view: RelevanceData, name: str) -> Contrast:
    """A number against a number, or against classes."""
    x, subset = _present(view, name)
    return x[None], _target(view, subset), subset


def ranks(view: RelevanceData, name: str) -> Contrast:
    """The same by ranks, of a number target too."""
    x, subset = _present(view, name)
    return average_ranks(x)[None], _ranked_target(view, subset), subset


def levels(view: RelevanceData, name: str) -> Contrast:
    """Levels against a number, or against classes."""
    codes, subset = _levels(view, name)
    return indicators(codes), _target(view, subset), subset


def levels_and_ranks(view: RelevanceData, name: str) -> Contrast:
    """Levels against the ranks of a number."""
    codes, subset = _levels(view, name)
    return indicators(codes), _ranked_target(view, subset), subset


def bend(view: RelevanceData, name: str) -> Contrast:
    """Bins of a number, less a straight line in it, against what that line leaves of the target."""
    x, subset = _present(view, name)
    codes = coded(view, [name]).codes[0][subset].astype(np.int64)
    w = np.ones(x.size) if view.weights is None else view.weights[subset]
    line = np.stack([np.ones(x.size), x - x.mean()]) if x.size else np.empty((2, 0))
    return _less(indicators(codes), line, w), _less(view.y[subset][None], line, w), subset


def indicators(codes: Ints) -> Floats:
    """(levels less one, n): 0/1 of every level but the commonest; past fifty the rare ones share one."""
    counts = np.bincount(codes) if codes.size else np.empty(0, np.int64)
    order = np.argsort(-counts, kind="stable")
    order = order[counts[order] > 0]
    own = order[1:MOST_LEVELS]
    out = (codes[None] == own[:, None]).astype(float)
    if order.size > MOST_LEVELS:
        out = np.vstack([out, 1.0 - out.sum(0) - (codes == order[0])])
    answer: Floats = out
    return answer


def _less(columns: Floats, line: Floats, w: Floats) -> Floats:
    if not columns.size:
        return columns
    root = np.sqrt(w)
    fitted = np.linalg.lstsq((line * root).T, (columns * root).T, rcond=None)[0]
    return np.asarray(columns - fitted.T @ line)


def _present(view: RelevanceData, name: str) -> tuple[Floats, Flags]:
    column = view.table.column(name).values
    subset = ~np.isnan(column)
    return column[subset], subset


def _levels(view: RelevanceData, name: str) -> tuple[Ints, Flags]:
    codes = view.levels_of(name)[0]
    subset = codes >= 0
    return codes[subset], subset


def _target(view: RelevanceData, subset: Flags) -> Floats:
    return view.y[subset][None] if view.regression else indicators(view.classes[subset])


def _ranked_target(view: RelevanceData, subset: Flags) -> Floats:
    return average_ranks(view.y[subset])[None] if view.regression else indicators(view.classes[subset])
