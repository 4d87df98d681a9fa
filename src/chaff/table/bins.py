"""Bins: one byte a cell, one contiguous row a feature; edges learned on training rows, never from the target.

Code 0 is missing. A number has codes 1..k by k - 1 cut points; a category has one code a level, in the order of the
schema, with the levels that are rare in the training rows pooled past 253.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from chaff.arrays import Bytes, Flags, Floats, Ints
from chaff.kernels.counts import codes_by_cuts
from chaff.table.on_disk.arrays import room, turned
from chaff.table.on_disk.spilled import Spill
from chaff.table.table import Table
from chaff.work import Work, task

TREE_BINS = 254
INFORMATION_BINS = 10
ROWS_PER_BIN = 10  # finer bins than that only cost time: a leaf holds several rows anyway
AT_ONCE = 64  # features whose codes stand side by side before they are put in their place
LEVEL_CODES = 253  # levels with a code of their own; one more code holds the pool


@dataclass(frozen=True)
class FeatureBins:
    """How one feature becomes codes."""

    category: bool
    cuts: Floats = field(default_factory=lambda: np.empty(0))
    """Numbers: value v has code 1 + (how many cuts are < v)."""
    level_codes: Ints = field(default_factory=lambda: np.empty(0, np.int64))
    """Categories: code of each level; 0 for levels that no training row has."""
    codes: int = 1
    """Codes in use, code 0 counted."""

    def code(self, values: Floats) -> Bytes:
        if self.category:
            known = np.append(self.level_codes, 0)
            return known[np.where(np.isnan(values), self.level_codes.size, np.nan_to_num(values)).astype(np.int64)].astype(np.uint8)
        out = np.empty(values.size, np.uint8)
        codes_by_cuts(np.ascontiguousarray(values, float), self.cuts, out)
        return out


class FeatureBinsLearner:
    """start / add(values) / merge / finish for one feature: keeps distinct values and their counts."""

    def __init__(self, category: bool, levels: int, most: int) -> None:
        self.category, self.levels, self.most = category, levels, most
        self.parts: list[Floats] = []

    def add(self, values: Floats) -> None:
        self.parts.append(values[~np.isnan(values)])

    def merge(self, other: FeatureBinsLearner) -> None:
        self.parts += other.parts

    def finish(self) -> FeatureBins:
        present = np.concatenate(self.parts) if self.parts else np.empty(0)
        if self.category:
            return self._levels(np.bincount(present.astype(np.int64), minlength=self.levels))
        distinct, counts = np.unique(present, return_counts=True)
        cuts = equal_count_cuts(distinct, counts, self.most)
        return FeatureBins(False, cuts, codes=cuts.size + 2)

    def _levels(self, counts: Ints) -> FeatureBins:
        codes = np.zeros(self.levels, np.int64)
        order = np.argsort(-counts, kind="stable")
        seen = order[counts[order] > 0]
        own = np.sort(seen[:LEVEL_CODES])
        codes[own] = np.arange(1, own.size + 1)
        codes[seen[LEVEL_CODES:]] = own.size + 1
        return FeatureBins(True, level_codes=codes, codes=int(codes.max(initial=0)) + 1)


def equal_count_cuts(distinct: Floats, counts: Ints, most: int) -> Floats:
    """Cut points that put about the same count into each of at most `most` bins; one bin a value when there are few.

    Cuts lie halfway between neighbouring values, so that a test row between them falls on the nearer side.
    """
    if distinct.size <= 1:
        return np.empty(0)
    if distinct.size <= most:
        last = np.arange(distinct.size - 1)
    else:
        below = np.cumsum(counts)
        wanted = below[-1] * np.arange(1, most) / most
        last = np.unique(np.clip(np.searchsorted(below, wanted, side="left"), 0, distinct.size - 2))
    cuts: Floats = distinct[last] + (distinct[last + 1] - distinct[last]) / 2
    return cuts


@dataclass(frozen=True)
class Binning:
    """Bins of several features, learned on training rows."""

    features: tuple[str, ...]
    bins: tuple[FeatureBins, ...]

    @classmethod
    def learn(cls, train: Table, features: Sequence[str], most: int | None = None, work: Work | None = None) -> Binning:
        """Bins for trees (at most 254, and ten rows a bin) unless `most` says how many."""
        most = min(TREE_BINS, max(32, len(train) // ROWS_PER_BIN)) if most is None else most

        return cls(tuple(features), tuple((work or Work()).each(task(_feature_bins, train, most), features)))

    def apply(self, table: Table, work: Work | None = None) -> Bins:
        coded, count = task(self._codes, table), len(self.features)
        codes = room(table.source.spill, (count, len(table)), np.uint8)
        for start in range(0, count, AT_ONCE):
            places = range(start, min(start + AT_ONCE, count))
            for f, line in zip(places, [coded(f) for f in places] if work is None else work.each(coded, places), strict=True):
                codes[f] = line
        levels, category = [b.codes for b in self.bins], [b.category for b in self.bins]
        return Bins(self.features, codes, np.array(levels, np.int64), np.array(category, bool), table.source.spill)

    def _codes(self, table: Table, f: int) -> Bytes:
        return self.bins[f].code(table.column(self.features[f]).values)


def _feature_bins(train: Table, most: int, name: str) -> FeatureBins:
    column = train.column(name)
    learner = FeatureBinsLearner(column.kind in ("category", "text"), len(column.levels), most)
    learner.add(column.values)
    return learner.finish()


@dataclass(frozen=True)
class Bins:
    """Coded rows."""

    features: tuple[str, ...]
    codes: Bytes
    """uint8 (features, rows), C-contiguous."""
    counts: Ints
    """int64 (features,): codes in use, code 0 (missing) counted."""
    category: Flags
    spill: Spill | None = field(default=None, repr=False)
    """Where room is found for more of these rows."""

    @cached_property
    def by_rows(self) -> Bytes:
        """uint8 (rows, features): a row's codes lie together."""
        return turned(self.spill, self.codes)

    def select(self, features: Sequence[str]) -> Bins:
        if tuple(features) == self.features:
            return self
        place = {n: k for k, n in enumerate(self.features)}
        which = np.array([place[n] for n in features], int)
        codes = room(self.spill, (which.size, self.codes.shape[1]), np.uint8)
        for k, f in enumerate(which):
            codes[k] = self.codes[f]
        return Bins(tuple(features), codes, self.counts[which], self.category[which], self.spill)
