"""What columns explain in many shallow trees on three columns each, for a target and its shuffles at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from math import comb
from typing import Any

import numpy as np

from chaff.arrays import Bytes, Flags, Floats, Ints
from chaff.kernels.standing import trees_of_target
from chaff.kernels.standing_lanes import LANES, lanes_of_trees
from chaff.table.bins import Binning
from chaff.table.table import Table
from chaff.work import Work, task

BINS = 32
MOST_LEVELS = 63  # of a category that are told apart; the rest, and those with fewer rows than a leaf, stand together
COLUMNS = 3  # of a tree
STANDS = 10  # of each column at least, over all trees
LEVELS = 2
LEAF_ROWS = 10
MOST_LANE_CLASSES = 16  # more are counted one target at a time
WEIGHT_STEPS = 1000  # in which the heaviest row counts
NUMBER_BITS = 16


@dataclass(frozen=True)
class BinnedColumns:
    """Bins of the columns, in the order of their names so that ties fall the same way whatever the order of the columns."""

    columns: Bytes
    """uint8 (p, n)."""
    sizes: Ints
    category: Flags
    counts: Floats
    """float64 (p, 256), rows of each code."""
    place: Ints
    """Where each feature of the table stands."""
    leaf: float

    @classmethod
    def of(cls, table: Table, work: Work, leaf_rows: int = LEAF_ROWS) -> BinnedColumns:
        """Equal-count bins: no edge ever depends on the target, so that all shuffles share them."""
        names = sorted(table.features)
        bins = Binning.learn(table, names, BINS, work).apply(table, work)
        codes = bins.codes.copy()
        for f in np.flatnonzero(bins.category):
            codes[f] = fewer_levels(codes[f], leaf_rows)
        counts = np.array([np.bincount(c, minlength=256) for c in codes], float).reshape(len(names), 256)
        place = {n: k for k, n in enumerate(names)}
        at = np.array([place[f] for f in table.features], np.int64)
        return cls(codes, codes.max(1).astype(np.int64) + 1, bins.category, counts, at, float(leaf_rows))


def fewer_levels(codes: Bytes, leaf_rows: int) -> Bytes:
    """Codes of a category with the levels that are seldom as one."""
    count = np.bincount(codes, minlength=256)
    order = np.argsort(-count, kind="stable")
    own = np.sort(order[:MOST_LEVELS][count[order[:MOST_LEVELS]] >= leaf_rows])
    new = np.full(256, own.size, np.uint8)
    new[own] = np.arange(own.size)
    return new[codes]


@dataclass(frozen=True)
class Targets:
    """A target and its shuffles in whole numbers."""

    y: Ints
    """int64 (targets, n): class, or the number in steps of its range."""
    classes: int
    """1 for numbers and for two classes, else how many."""
    weights: Ints | None
    """int64 (targets, n), whole-number weights; None without weights."""
    number: bool

    @classmethod
    def of(cls, table: Table, orders: Sequence[Ints]) -> Targets:
        number = table.target.task == "regression"
        classes = 1 if number or len(table.target.classes) == 2 else len(table.target.classes)
        y = _in_steps(table.y, len(table)) if number else table.y.astype(np.int64)
        if classes == 1 and not number and 2 * int(y.sum()) > y.size:
            y = 1 - y  # the rarer class is the quicker one to count, and explains as much
        every = [np.arange(len(table)), *orders]
        weights = None
        if table.weights is not None:
            w = np.rint(table.weights / table.weights.max() * WEIGHT_STEPS).astype(np.int64)
            w[(w == 0) & (table.weights > 0)] = 1
            weights = np.array([w[o] for o in every])
        return cls(np.array([y[o] for o in every]), classes, weights, number)

    @property
    def lead(self) -> int:
        """The class that levels are put in order by: the commonest of the real target."""
        return int(np.bincount(self.y[0], minlength=self.classes).argmax()) if self.classes > 1 else 0

    def total(self) -> Floats:
        """float64 (targets,): sum of squares about the mean, what there is to explain."""
        w = np.ones(self.y.shape) if self.weights is None else self.weights.astype(float)
        m = w.sum(1)
        if self.classes == 1:
            t = (w * self.y).sum(1)
            return np.asarray((w * self.y.astype(float) ** 2).sum(1) - t**2 / m)
        return np.asarray(m - sum((w * (self.y == k)).sum(1) ** 2 for k in range(self.classes)) / m)


def _in_steps(y: Floats, n: int) -> Ints:
    low, high = float(y.min()), float(y.max())
    steps = min(2**NUMBER_BITS - 1, (2**32 - 1) // max(n, 1))
    return np.rint((y - low) / (high - low) * steps).astype(np.int64) if high > low else np.zeros(y.size, np.int64)


def draw_columns(p: int, trees: int, stream: np.random.Generator) -> Ints:
    """int64 (trees, up to 3): columns of each tree, every column about equally often; every set once where there are fewer."""
    q = min(COLUMNS, p)
    if comb(p, q) <= trees:
        return np.array(list(combinations(range(p), q)), np.int64)
    sets: list[Ints] = []
    while len(sets) < trees:
        order = stream.permutation(p)
        sets += [np.sort(order[k : k + q]) for k in range(0, p - q + 1, q)]
    return np.array(sets[:trees], np.int64)


def standing(data: BinnedColumns, targets: Targets, trees: int, seeds: int, work: Work, independent: bool = False) -> Floats:
    """Share of the target that each column explains at best in a tree that it takes part in, float64 (targets, seeds, p).

    Won splits or not: the first split, and both below it, of the tree's three columns.

    trees : in all, shared out over the seeds; more where columns are so many that some would hardly stand.
    independent : columns drawn for each target, else the same for all.
    """
    p, count = data.columns.shape[0], len(targets.y)
    each = max(1, max(trees, -(-STANDS * p // COLUMNS)) // seeds)
    lanes = not independent and targets.weights is None and targets.classes <= MOST_LANE_CLASSES and p >= COLUMNS
    drawn = [draw_columns(p, each, work.stream("standing", k)) for k in range(seeds)]
    if independent:
        units: list[Any] = [
            ([t], k, draw_columns(p, each, work.stream("standing", k, t))) for t in range(count) for k in range(seeds)
        ]  # fmt: skip
    else:
        a_batch = LANES // targets.classes if lanes else 1
        batches = [list(range(t, min(t + a_batch, count))) for t in range(0, count, a_batch)]
        units = [(b, k, drawn[k]) for k in range(seeds) for b in batches]
    result = work.each(task(_in_lanes if lanes else _alone, data, targets), units, "chance")
    gains, stood = np.zeros((count, seeds, p)), np.zeros((count, seeds, p))
    for (subset, k, sets), gain in zip(units, result, strict=True):
        gains[subset, k] = gain
        stood[subset, k] = np.bincount(sets.ravel(), minlength=p)
    total = targets.total()[:, None, None]
    share = np.divide(gains, stood * total, out=np.full(gains.shape, np.nan), where=(stood > 0) & (total > 0))
    return np.asarray(share[:, :, data.place])


def _in_lanes(data: BinnedColumns, targets: Targets, unit: tuple[list[int], int, Ints]) -> Floats:
    """float64 (targets of the batch, p): gains of up to 64 targets side by side."""
    subset, _, drawn = unit
    n, k, bins = data.columns.shape[1], targets.classes, int(data.sizes.max())
    dtype: Any = np.uint16 if targets.number else np.uint8
    wide: Any = np.uint32 if targets.number or n >= 2**16 else np.uint16
    Y = np.zeros((n, LANES), dtype)
    for place, t in enumerate(subset):
        if k == 1:
            Y[:, place] = targets.y[t]
        else:
            Y[np.arange(n), place * k + targets.y[t]] = 1
    gains = np.zeros((LANES, data.columns.shape[0]))
    room = np.zeros
    lanes_of_trees(
        data.columns, Y, drawn, data.sizes, data.category, data.counts, k, len(subset), targets.lead, data.leaf, LEVELS,
        dtype(np.iinfo(dtype).max), dtype(1), gains,
        room((COLUMNS, bins, LANES), wide), room((COLUMNS, bins, 2 * LANES), wide), room((COLUMNS, bins, LANES), dtype),
        room(2 * LANES, dtype), room(LANES), room((COLUMNS, LANES)), room((COLUMNS, LANES)), room(LANES), room(LANES), room(LANES),
        room((2, LANES)), room((2, LANES)), room(256), room((256, k)), room(256), room(256, np.int64), room(k), room(k),
    )  # fmt: skip
    return gains[: len(subset)]


def _alone(data: BinnedColumns, targets: Targets, unit: tuple[list[int], int, Ints]) -> Floats:
    """float64 (1, p): gains of one target, weights too."""
    (t,), _, drawn = unit
    n, k, q = data.columns.shape[1], targets.classes, drawn.shape[1]
    y, w = targets.y[t], np.ones(n, np.int64) if targets.weights is None else targets.weights[t]
    shift = 0 if k > 1 else int((w * y).sum()).bit_length() + 1
    packed = w if k > 1 else (w << shift) + w * y
    plain = k == 1 and not targets.number and targets.weights is None
    few = np.flatnonzero(y).astype(np.uint32) if plain else np.empty(0, np.uint32)
    leaf = data.leaf * float(w[w > 0].mean())
    gains, room = np.zeros(data.columns.shape[0]), np.zeros
    trees_of_target(
        data.columns, packed, y, few, data.counts, drawn, data.sizes, data.category, k, shift, targets.lead, leaf, LEVELS, gains,
        room((q, 256 * k), np.int64), room((q, 512 * k), np.int64), room(n, np.uint16), room(256, np.uint8), room(256), room((256, k)),
        room(k), room(256), room(256, np.int64), room(k),
    )  # fmt: skip
    return gains[None]
