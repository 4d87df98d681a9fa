"""One growth for every tree: bagged, extremely random, boosted, or shallow on few columns each."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from chaff.arrays import Bytes, Flags, Floats, Ints
from chaff.kernels.forest import TINY, grow_trees
from chaff.models.protocols import Sample

TREES_PER_UNIT = 10  # at the most
UNITS_A_WORKER = 8
FINEST, COARSEST = 64, 8  # steps in which the heaviest row counts
MOST_COUNTED = 1 << 20  # in all, so that every product of class counts is a whole number
ROWS_PER_UNIT = 20_000  # small trees are handed out more at a time


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
    """How rows are drawn: with replacement, by weight, rows of one unit together; without; or each as often as it weighs."""

    draws: int
    """Units to draw; below 0 so many without replacement; 0 where `times` says it."""
    units: Ints
    """int64 (n,), the unit of each row; empty where each stands for itself."""
    count: int
    """How many units there are."""
    cumulated: Floats
    guide: Ints
    heaviest: int
    times: Ints = field(default_factory=lambda: np.empty(0, np.int64))
    """int64 (n,), how often each row counts; empty where that is drawn."""

    @classmethod
    def once(cls, n: int, weights: Floats | None, share: float = 1.0) -> Drawing:
        """Every row once (or a share of them), with weights as often as it weighs."""
        none, of = np.empty(0), np.empty(0, np.int64)
        if weights is None or np.ptp(weights) == 0:
            return cls(-max(1, round(share * n)), of, n, none, of, n)
        top = float(weights.max())
        finest = min(FINEST, MOST_COUNTED / max(1.0, float(weights.sum()) / top))
        if share < 1 or finest < COARSEST:  # too many rows for whole-number weights that tell them apart
            return cls.of(n, weights, None, max(1, round(share * n)))
        times = np.rint(weights / top * finest).astype(np.int64)
        times[(times == 0) & (weights > 0)] = 1
        return cls(0, of, n, none, of, int(times.sum()), times)

    @property
    def counted(self) -> float:
        """How often a typical row that weighs counts."""
        return float(self.times[self.times > 0].mean()) if self.times.size else 1.0

    @classmethod
    def of(cls, n: int, weights: Floats | None, units: Ints | None, rows_per_tree: int) -> Drawing:
        none = np.empty(0, np.int64)
        weights = None if weights is not None and np.ptp(weights) == 0 else weights
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
    """float64 (trees, features): summed once for all trees, so that no digit depends on who grew which."""
    in_bag: Bytes
    updates: int


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
    marked: Ints
    """Rows of which trees tell whether they have learned from them."""
    in_play: int = 0
    """Columns that a tree may use, drawn for each; 0 for all."""
    at_random: bool = False
    """Whether one cut a column is drawn in place of the best."""
    least: int = 1
    """Rows that a level must have in a node to be told apart from other such levels."""

    def __reduce__(self) -> tuple[Any, ...]:
        """Codes travel once, and are turned there."""
        return _turned, tuple(getattr(self, f.name) for f in fields(self) if f.name != "rows")

    @cached_property
    def most(self) -> int:
        """Nodes that a tree can have."""
        answer: int = min(2 * (self.drawing.heaviest // self.leaf_rows), 2 * self.rows.shape[0]) + 3
        return answer

    def trees_of(self, trees: range) -> Grown:
        """Trees of these numbers, each from a stream of its own."""
        p = self.rows.shape[1]
        k, most, count = self.target.classes, self.most, len(trees)
        split = most // 2 + 1 if self.category.any() else 1
        node, pick = np.empty((count, most), np.int64), np.zeros((count, most), np.int32)
        sets, value = np.zeros((count, split, 4), np.uint64), np.zeros((count, most, k))
        nodes, set_counts, gains = np.zeros(count, np.int64), np.zeros(count, np.int64), np.zeros((count, p))
        in_bag = np.zeros((count, self.marked.size), np.uint8)
        streams = np.array([(self.key + (t + 1) * 0xD1B54A32D192ED03) % 2**64 for t in trees], np.uint64)
        tiny, dense = 0 if self.at_random else TINY if k == 1 else 2 * TINY, int(self.counts.max(initial=1))
        d, t = self.drawing, self.target
        updates = grow_trees(
            self.rows, self.columns, np.arange(p), self.counts, self.category, t.y, k, t.shift, d.cumulated, d.guide, d.units, d.draws,
            self.in_play or p, self.want, self.leaf_rows, self.deepest, tiny, dense, self.at_random, self.least, streams, self.marked,
            node, pick, sets, value, nodes, set_counts, gains, in_bag, *self._room(),
        )  # fmt: skip
        flat = [slice(0, m) for m in nodes]
        return Grown(
            np.concatenate([node[i, s] for i, s in enumerate(flat)]),
            np.concatenate([pick[i, s] for i, s in enumerate(flat)]),
            np.concatenate([sets[i, :m] for i, m in enumerate(set_counts)]),
            np.concatenate([value[i, s] for i, s in enumerate(flat)]),
            nodes,
            set_counts,
            gains * t.unit**2,
            in_bag,
            int(updates),
        )

    def _room(self) -> tuple[npt.NDArray[np.generic], ...]:
        """Room to work in; the histograms are zero before and after every node."""
        n, p = min(self.rows.shape[0], self.drawing.heaviest), self.rows.shape[1]
        k, want, one, given = self.target.classes, self.want, self.target.classes == 1, self.drawing.times
        times = given.astype(np.int32) if given.size else np.empty(self.drawing.count, np.int32)
        return (
            times, np.empty(n, np.uint32), np.empty(n, np.uint32), np.empty(n, np.int64),
            np.empty(n, np.int64), np.empty(n, np.uint8), np.zeros((want if one else 1, 256), np.int64),
            np.zeros((1 if one else want, 256 * k), np.int32), np.zeros((want, 4), np.uint64), np.empty(256, np.uint8),
            np.empty(256, np.uint8), np.empty(256), np.empty(130, np.int32), np.empty(65, np.int64), np.empty((self.most + 2, 5), np.int64),
            np.zeros((1 if one else self.most + 2, k), np.int64), np.zeros(k, np.int64), np.zeros(k, np.int64), np.empty(p, np.int64),
            np.empty(max(want, self.in_play), np.uint32),
        )  # fmt: skip


def _turned(columns: Bytes, *rest: Any) -> Growth:
    return Growth(np.ascontiguousarray(columns.T), columns, *rest)
