"""A forest of trees on bins: numbers by squared error, classes by the Gini gain of their indicators."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from chaff.arrays import Bytes, Flags, Floats, Ints
from chaff.errors import UsageError
from chaff.kernels.forest import TINY, grow_trees
from chaff.kernels.tree_walks import DEEPEST, add_predictions, add_shuffle_changes, out_of_bag_drops
from chaff.metrics import Need
from chaff.models.protocols import Form, Sample
from chaff.table.bins import Bins
from chaff.work import Work, task

TREES_PER_UNIT = 10
ROWS_PER_UNIT = 20_000  # small trees are handed out more at a time
ROWS_PER_TREE = 50_000
CHANGE_BYTES = 1 << 22  # of changes kept at a time, so that they stay in cache
MOST_SHUFFLES = 64


@dataclass(frozen=True)
class Target:
    """A target as the kernels read it: whole numbers, so that every sum is exact."""

    y: Ints
    """Fixed-point value, or class."""
    classes: int
    """1 for numbers and for two classes, else how many."""
    shift: int
    """Bit where the count begins in a packed sum."""
    zero: float
    unit: float
    """value = zero + unit x fixed-point value."""

    @classmethod
    def of(cls, rows: Sample, heaviest: int) -> Target:
        """heaviest : the most rows, counted as often as drawn, that a tree can have."""
        t = rows.targets
        if t.shape[1] > 1:
            return cls(t.argmax(1).astype(np.int64), t.shape[1], 32, 0.0, 1.0)
        if rows.classes:
            return cls(np.rint(t[:, 0]).astype(np.int64), 1, 32, 0.0, 1.0)
        bits = int(heaviest).bit_length()
        places = max(4, min(30, 61 - 2 * bits))  # what a product of two sums and a count has room for
        zero = float(t.min())
        unit = (float(t.max()) - zero) / (2**places - 1) or 1.0
        return cls(np.rint((t[:, 0] - zero) / unit).astype(np.int64), 1, bits + places, zero, unit)


@dataclass(frozen=True)
class Drawing:
    """How rows are drawn: with replacement, by weight, rows of one unit together."""

    draws: int
    units: Ints
    """int64 (n,), the unit of each row; empty where each stands for itself."""
    count: int
    """How many units there are."""
    cumulated: Floats
    guide: Ints
    heaviest: int

    @classmethod
    def of(cls, n: int, weights: Floats | None, units: Ints | None, rows_per_tree: int) -> Drawing:
        none = np.empty(0, np.int64)
        if units is None:
            draws = min(n, rows_per_tree)
            return cls(draws, none, n, *_chances(weights, n), draws)
        _, of = np.unique(units, return_inverse=True)
        of = of.astype(np.int64)
        size = np.bincount(of)
        count, chances = size.size, None
        if weights is not None:  # rows that weigh nothing share a unit that is never drawn
            of = np.where(weights > 0, of, count)
            chances = np.append(np.bincount(of, weights, count + 1)[:count], 0.0)
            count += 1
        draws = max(1, round(size.size * min(1.0, rows_per_tree / n)))
        return cls(draws, of, count, *_chances(chances, count), int(draws * size.max()))


def _chances(weights: Floats | None, n: int) -> tuple[Floats, Ints]:
    if weights is None:
        return np.empty(0), np.empty(0, np.int64)
    cumulated = np.cumsum(weights, dtype=float)
    return cumulated, np.minimum(np.searchsorted(cumulated, np.arange(n) / n * cumulated[-1], side="right"), n - 1).astype(np.int64)


@dataclass(frozen=True)
class Grown:
    """Some trees, one behind the other."""

    node: Ints
    pick: npt.NDArray[np.int32]
    sets: npt.NDArray[np.uint64]
    value: Floats
    nodes: Ints
    """Nodes of each tree."""
    set_counts: Ints
    gains: Floats
    in_bag: Bytes
    updates: int


@dataclass(frozen=True)
class FittedForest:
    """All trees in arrays of their own kind; see `chaff.kernels.forest` for what a node is."""

    features: tuple[str, ...]
    node: Ints = field(repr=False)
    first: Ints = field(repr=False)
    pick: npt.NDArray[np.int32] = field(repr=False)
    sets: npt.NDArray[np.uint64] = field(repr=False)
    value: Floats = field(repr=False)
    gains: Floats = field(repr=False)
    in_bag: Bytes = field(repr=False)
    """uint8 (trees, training rows), 1 where a tree has learned from the row; (trees, 0) where it was not asked for."""

    @property
    def trees(self) -> int:
        return self.first.size - 1

    @property
    def _walked(self) -> tuple[Ints, Ints, npt.NDArray[np.int32], npt.NDArray[np.uint64], Floats]:
        return self.node, self.first, self.pick, self.sets, self.value

    def predict(self, rows: Sample) -> Floats:
        out = np.zeros((rows.data.codes.shape[1], self.value.shape[1]))
        add_predictions(rows.data.by_rows, *self._walked, out)
        return out / self.trees

    def importance(self) -> Floats:
        """Drop in squared error that a feature's splits brought, as a share of the total."""
        total = self.gains.sum()
        return self.gains / total if total > 0 else self.gains.copy()

    def shuffled(self, rows: Sample, foreign: Sequence[Sample], work: Work) -> tuple[Floats, list[tuple[slice, Floats]]]:
        """Predictions, and what they become when one feature takes foreign cells, in blocks of rows.

        Parameters
        ----------
        foreign : sequence of Sample
            The same rows with the cells that each feature would take; at most 64.

        Returns
        -------
        predictions (n, t), and a list of (rows, float64 (shuffles, features, rows, t)) with the *changes*.
        """
        if len(foreign) > MOST_SHUFFLES:
            raise UsageError(f"shuffles must be at most {MOST_SHUFFLES}, not {len(foreign)}")
        n, p, t = rows.data.codes.shape[1], len(self.features), self.value.shape[1]
        size = max(16, CHANGE_BYTES // max(1, 8 * len(foreign) * p * t))
        blocks = [slice(i, min(i + size, n)) for i in range(0, n, size)]
        lent = np.array([f.data.by_rows for f in foreign], np.uint8)
        return self.predict(rows), work.each(task(self._changes, rows.data.by_rows, lent), blocks)

    def _changes(self, codes: Bytes, lent: Bytes, where: slice) -> tuple[slice, Floats]:
        """Changes in some rows."""
        m, p, shuffles = where.stop - where.start, codes.shape[1], lent.shape[0]
        room = Room.of(m, p, shuffles, self.value.shape[1])
        add_shuffle_changes(codes, *self._walked, lent, where.start, where.stop, room.change, room.hit, room.path, room.stamp, room.gone)
        change = room.change.reshape(m, p, shuffles, -1) / self.trees
        return where, np.ascontiguousarray(change.transpose(2, 1, 0, 3))

    def out_of_bag_importance(self, train: Sample, chosen: Ints, shuffles: int, work: Work) -> Floats:
        """Mean rise in loss per feature when it is shuffled, float64 (features,), over some of the training rows, each
        predicted by the trees that have not learned from it: squared error, or log loss with classes.

        Source: Breiman, 2001.
        """
        codes = train.data.by_rows
        p, t = codes.shape[1], self.value.shape[1]
        weights = np.ones(len(codes)) if train.weights is None else train.weights
        dealt = [chosen[work.stream("shuffle", s).permutation(chosen.size)] for s in range(shuffles)]
        size = int(max(16, min(chosen.size, CHANGE_BYTES // max(1, 8 * shuffles * p * t))))
        room = Room.of(size, p, shuffles, t)
        drops = np.zeros((shuffles, p))
        kind = 0 if not train.classes else 1 if t > 1 else 2
        y = np.ascontiguousarray(train.targets, float)
        for i in range(0, chosen.size, size):
            foreign = np.array([codes[d[i : i + size]] for d in dealt], np.uint8)
            out_of_bag_drops(codes, *self._walked, self.in_bag, foreign, chosen[i : i + size], y, weights, kind, *room, drops)
        return np.asarray(drops.mean(0) / weights[chosen].sum())


@dataclass(frozen=True)
class Room:
    """Room for the changes of one block of rows."""

    change: Floats
    hit: Bytes
    base: Floats
    path: Ints
    stamp: Ints
    gone: npt.NDArray[np.uint64]

    @classmethod
    def of(cls, rows: int, features: int, shuffles: int, targets: int) -> Room:
        wide = features * shuffles
        return cls(
            np.zeros((rows, wide, targets)), np.zeros((rows, wide), np.uint8), np.zeros((rows, targets + 1)),
            np.empty(DEEPEST + 2, np.int64), np.zeros(features, np.int64), np.empty(features, np.uint64),
        )  # fmt: skip

    def __iter__(self):  # type: ignore[no-untyped-def]
        return iter((self.change, self.hit, self.base, self.path, self.stamp, self.gone))


@dataclass(frozen=True)
class Growth:
    """What all trees of a forest are grown from."""

    rows: Bytes
    """uint8 (n, features)."""
    columns: Bytes
    """The same, uint8 (features, n)."""
    target: Target
    drawing: Drawing
    counts: Ints
    category: Flags
    want: int
    """Columns drawn at each split."""
    leaf_rows: int
    deepest: int
    key: int
    mark: bool
    """Whether trees tell which rows they have learned from."""

    @cached_property
    def most(self) -> int:
        """Nodes that a tree can have."""
        return min(2 * (self.drawing.heaviest // self.leaf_rows), 2 * self.rows.shape[0]) + 3

    def some(self, trees: range) -> Grown:
        """Trees of these numbers, each from a stream of its own."""
        n, p = self.rows.shape
        k, most, count = self.target.classes, self.most, len(trees)
        split = most // 2 + 1 if self.category.any() else 1
        node, pick = np.empty((count, most), np.int64), np.zeros((count, most), np.int32)
        sets, value = np.zeros((count, split, 4), np.uint64), np.zeros((count, most, k))
        nodes, set_counts, gains = np.zeros(count, np.int64), np.zeros(count, np.int64), np.zeros((count, p))
        in_bag = np.zeros((count, n if self.mark else 0), np.uint8)
        streams = np.array([(self.key + (t + 1) * 0xD1B54A32D192ED03) % 2**64 for t in trees], np.uint64)
        tiny, dense = (TINY if k == 1 else 2 * TINY), int(self.counts.max(initial=1))
        d, t = self.drawing, self.target
        updates = grow_trees(
            self.rows, self.columns, np.arange(p), self.counts, self.category, t.y, k, t.shift, d.cumulated, d.guide, d.units, d.draws,
            self.want, self.leaf_rows, self.deepest, tiny, dense, streams, node, pick, sets, value, nodes, set_counts, gains, in_bag,
            *self._room(),
        )  # fmt: skip
        flat = [slice(0, m) for m in nodes]
        return Grown(
            np.concatenate([node[i, s] for i, s in enumerate(flat)]),
            np.concatenate([pick[i, s] for i, s in enumerate(flat)]),
            np.concatenate([sets[i, :m] for i, m in enumerate(set_counts)]),
            np.concatenate([value[i, s] for i, s in enumerate(flat)]),
            nodes,
            set_counts,
            gains.sum(0) * t.unit**2,
            in_bag,
            int(updates),
        )

    def _room(self) -> tuple[npt.NDArray[np.generic], ...]:
        """Room to work in; the histograms are zero before and after every node."""
        n, p = self.rows.shape
        k, want, one = self.target.classes, self.want, self.target.classes == 1
        return (
            np.empty(self.drawing.count, np.int32), np.empty(n, np.uint32), np.empty(n, np.uint32), np.empty(n, np.int64),
            np.empty(n, np.int64), np.empty(n, np.uint8), np.zeros((want if one else 1, 256), np.int64),
            np.zeros((1 if one else want, 256 * k), np.int32), np.zeros((want, 4), np.uint64), np.empty(256, np.uint8),
            np.empty(256, np.uint8), np.empty(256), np.empty(130, np.int32), np.empty(65, np.int64), np.empty((self.most + 2, 5), np.int64),
            np.zeros((1 if one else self.most + 2, k), np.int64), np.zeros(k, np.int64), np.zeros(k, np.int64), np.empty(p, np.int64),
            np.empty(want, np.uint32),
        )  # fmt: skip


@dataclass(frozen=True)
class Forest:
    """Bagged trees with random columns at each split.

    Parameters
    ----------
    trees : int
    columns_per_split : int, float or None
        Columns tried at each split: a count, a share below 1, or None for the square root (classes) or a third (numbers).
    leaf_rows : int
        Rows a leaf must hold; a row that was drawn twice counts twice.
    depth : int or None
    rows_per_tree : int or None
        Rows drawn with replacement for each tree; None for as many as there are, at most 50,000.

    Notes
    -----
    With classes a leaf holds their shares, smoothed by one row's worth of the training shares, so that no class is ever
    impossible. A row's weight is its chance to be drawn. Source: Breiman, 2001.

    Examples
    --------
    >>> import chaff
    >>> chaff.Forest(trees=50).leaf_rows
    5
    """

    trees: int = 100
    columns_per_split: int | float | None = None
    leaf_rows: int = 5
    depth: int | None = None
    rows_per_tree: int | None = None

    learns: ClassVar[Form] = "bins"
    reads: ClassVar[Form] = "bins"
    gives: ClassVar[frozenset[Need]] = frozenset({"values", "labels", "scores", "probabilities"})
    label: ClassVar[str] = "forest"

    def __post_init__(self) -> None:
        if self.trees < 1 or self.leaf_rows < 1 or (self.depth is not None and self.depth < 1):
            raise UsageError("trees, leaf_rows and depth must be 1 or more")
        if self.rows_per_tree is not None and self.rows_per_tree < 1:
            raise UsageError("rows_per_tree must be 1 or more")
        if self.columns_per_split is not None and self.columns_per_split <= 0:
            raise UsageError("columns_per_split must be more than 0")

    def drawn_columns(self, features: int, classes: bool) -> int:
        asked = self.columns_per_split
        if asked is None:
            want = np.sqrt(features) if classes else features / 3
        else:
            want = asked * features if isinstance(asked, float) and asked < 1 else asked
        return int(min(max(1, np.ceil(want)), features))

    def fit(self, train: Sample, work: Work) -> FittedForest:
        return self.grow(train, work)

    def grow(self, train: Sample, work: Work, units: Ints | None = None, mark: bool = False) -> FittedForest:
        """The forest; rows of one unit (int64 (n,)) are drawn together, and `mark` has each tree tell whom it learned from."""
        bins: Bins = train.data
        p, n = bins.codes.shape
        drawing = Drawing.of(n, train.weights, units, self.rows_per_tree or min(n, ROWS_PER_TREE))
        growth = Growth(
            bins.by_rows,
            np.ascontiguousarray(bins.codes),
            Target.of(train, drawing.heaviest),
            drawing,
            bins.counts,
            bins.category,
            self.drawn_columns(p, bool(train.classes)) if p else 0,
            self.leaf_rows,
            min(self.depth or DEEPEST, DEEPEST),
            work.key("forest"),
            mark,
        )
        a_unit = max(TREES_PER_UNIT, ROWS_PER_UNIT // n)
        units_of_work = [range(t, min(t + a_unit, self.trees)) for t in range(0, self.trees, a_unit)]
        return _joined(train, growth, work.each(growth.some, units_of_work))


def _joined(train: Sample, growth: Growth, parts: list[Grown]) -> FittedForest:
    """One forest of all parts, its leaves in the target's own units and, with classes, smoothed."""
    nodes = np.concatenate([g.nodes for g in parts])
    sets_before = np.concatenate([[0], np.cumsum(np.concatenate([g.set_counts for g in parts]))])[:-1]
    pick, value = np.concatenate([g.pick for g in parts]), np.concatenate([g.value for g in parts])
    if train.classes:
        weights = np.ones(len(train.targets)) if train.weights is None else train.weights
        shares = np.average(train.targets, axis=0, weights=weights)
        held = pick[:, None].astype(float)
        value = (value * held + shares) / (held + 1.0)
    else:
        value = value * growth.target.unit + growth.target.zero
    return FittedForest(
        train.features,
        np.concatenate([g.node for g in parts]),
        np.concatenate([[0], np.cumsum(nodes)]),
        pick + np.repeat(sets_before, nodes).astype(np.int32),
        np.concatenate([*(g.sets for g in parts), np.zeros((1, 4), np.uint64)]),
        value,
        np.sum([g.gains for g in parts], axis=0),
        np.concatenate([g.in_bag for g in parts]),
    )
