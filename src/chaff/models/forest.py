"""A forest of regression trees on bins; with classes, trees on class indicators."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from chaff.arrays import Bytes, Flags, Floats, Ints
from chaff.errors import UsageError
from chaff.kernels.forest import draw_bootstrap, grow_tree
from chaff.kernels.tree_walks import add_predictions, add_shuffle_changes
from chaff.metrics import Need
from chaff.models.protocols import Form, Sample
from chaff.table.bins import Bins
from chaff.work import Work, task

TREES_PER_UNIT = 10
DEEPEST = 500
ROWS_PER_TREE = 50_000
CHANGE_BYTES = 1 << 26


@dataclass(frozen=True)
class Tree:
    feature: Ints
    """-1 at a leaf."""
    left: Ints
    right: Ints
    mask: npt.NDArray[np.uint64]
    """uint64 (nodes, 4): bit set for the codes that go left."""
    value: Floats
    """float64 (nodes, t)."""


@dataclass(frozen=True)
class FittedForest:
    features: tuple[str, ...]
    trees: tuple[Tree, ...]
    gains: Floats = field(repr=False)

    def predict(self, rows: Sample) -> Floats:
        return self._sum(_row_major(rows.data), rows.targets.shape[1]) / len(self.trees)

    def _sum(self, codes: Bytes, targets: int) -> Floats:
        out = np.zeros((codes.shape[0], targets))
        for t in self.trees:
            add_predictions(codes, t.feature, t.left, t.right, t.mask, t.value, out)
        return out

    def importance(self) -> Floats:
        """Drop in squared error that a feature's splits brought, as a share of the total."""
        total = self.gains.sum()
        return self.gains / total if total > 0 else self.gains.copy()

    def shuffled(self, rows: Sample, partners: Ints, work: Work) -> tuple[Floats, list[tuple[slice, Floats]]]:
        """Predictions, and what they become when one feature is shuffled, in blocks of rows.

        Parameters
        ----------
        partners : int64 (shuffles, n)
            Row that lends its value; the same for every feature.

        Returns
        -------
        predictions (n, t), and a list of (rows, float64 (shuffles, features, rows, t)) with the *changes*.
        """
        codes = _row_major(rows.data)
        n, p = codes.shape
        t = rows.targets.shape[1]
        size = max(16, CHANGE_BYTES // (8 * partners.shape[0] * p * t))
        blocks = [slice(i, min(i + size, n)) for i in range(0, n, size)]

        return self._sum(codes, t) / len(self.trees), work.each(task(self._changes, codes, partners, t), blocks)

    def _changes(self, codes: Bytes, partners: Ints, targets: int, where: slice) -> tuple[slice, Floats]:
        """Changes in some rows."""
        out = np.zeros((partners.shape[0], codes.shape[1], where.stop - where.start, targets))
        for k in self.trees:
            add_shuffle_changes(codes, k.feature, k.left, k.right, k.mask, k.value, partners, where.start, where.stop, out)
        out /= len(self.trees)
        return where, out


@dataclass(frozen=True)
class Growth:
    """What all trees of a forest are grown from."""

    codes: Bytes
    """uint8 (n, features), row-major."""
    targets: Floats
    """float64 (n, t), about `centre`."""
    weights: Floats
    counts: Ints
    category: Flags
    want: int
    """Columns drawn at each split."""
    key: int
    centre: Floats
    smooth: float
    """Weight of the training shares in a leaf."""


@dataclass(frozen=True)
class Forest:
    """Bagged trees with random columns at each split.

    Parameters
    ----------
    trees : int
    columns_per_split : int, float or None
        Columns drawn at each split: a count, a share, or None for a third (numbers) or the square root (classes).
    leaf_rows : int
        Fewest training rows in a leaf.
    depth : int or None
        Deepest level; None for as deep as the rows allow.
    rows_per_tree : int or None
        Rows drawn with replacement for each tree; None for as many as there are, at most 50,000, so that a forest on a
        million rows is grown in seconds and a tree stays small enough to walk.

    Notes
    -----
    Missing cells go to whichever side serves the split better; levels of a category are ordered anew in every node.
    With classes each leaf's shares are drawn towards the training shares by the weight of one row, so that no class is ever
    impossible. Source: Breiman, 2001.
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
        bins: Bins = train.data
        n, p = bins.codes.shape[1], len(bins.features)
        weights = np.ones(n) if train.weights is None else train.weights
        centre = np.average(train.targets, axis=0, weights=weights)
        growth = Growth(
            _row_major(bins),
            train.targets - centre,  # centred, so that a target far from zero loses no digits in the gains
            weights,
            bins.counts,
            bins.category,
            self.drawn_columns(p, bool(train.classes)) if p else 0,
            work.key("forest"),
            centre,
            1.0 if train.classes else 0.0,
        )
        grown = [one for some in work.each(task(self._some_trees, growth), range(0, self.trees, TREES_PER_UNIT)) for one in some]
        gains = np.sum([g for _, g in grown], axis=0) if p else np.zeros(0)
        return FittedForest(train.features, tuple(t for t, _ in grown), gains)

    def _some_trees(self, growth: Growth, first: int) -> list[tuple[Tree, Floats]]:
        return [self._tree(growth, t) for t in range(first, min(first + TREES_PER_UNIT, self.trees))]

    def _tree(self, g: Growth, number: int) -> tuple[Tree, Floats]:
        """(one tree, gain of every feature)."""
        n, p = g.codes.shape
        times = np.empty(n)
        draws = min(n, ROWS_PER_TREE) if self.rows_per_tree is None else self.rows_per_tree
        state = draw_bootstrap(np.uint64(g.key + number), draws, times)
        most, t = 2 * (draws // self.leaf_rows) + 3, g.targets.shape[1]
        feature, left, right = (np.zeros(most, np.int64) for _ in range(3))
        mask, value, gains = np.zeros((most, 4), np.uint64), np.zeros((most, 1 + t)), np.zeros(p)
        limits = (g.want, float(self.leaf_rows), min(self.depth or DEEPEST, DEEPEST), np.uint64(state))
        out = (feature, left, right, mask, value, gains)
        nodes = grow_tree(g.codes, g.targets, g.weights, times, g.counts, g.category, *limits, *out)
        weight = value[:nodes, :1] + g.smooth
        leaf = g.centre + np.divide(value[:nodes, 1:], weight, out=np.zeros((nodes, t)), where=weight > 0)
        return Tree(feature[:nodes].copy(), left[:nodes].copy(), right[:nodes].copy(), mask[:nodes].copy(), leaf), gains


def _row_major(bins: Bins) -> Bytes:
    return np.ascontiguousarray(bins.codes.T)
