"""Forests and a single tree on bins: numbers by squared error, classes by the Gini gain of their indicators."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from chaff.arrays import Ints
from chaff.errors import UsageError
from chaff.kernels.tree_walks import DEEPEST
from chaff.metrics import Need
from chaff.models.fitted_trees import FittedForest, joined
from chaff.models.protocols import Form, Sample
from chaff.models.tree_growth import ROWS_PER_UNIT, TREES_PER_UNIT, UNITS_A_WORKER, Drawing, Growth, Target
from chaff.work import Work

ROWS_PER_TREE = 50_000


def columns_of(setting: int | float | None, features: int, otherwise: float) -> int:
    """How many columns are meant: a count, a share below 1, or what is usual."""
    want = otherwise if setting is None else setting * features if isinstance(setting, float) and setting < 1 else setting
    return int(min(max(1, np.ceil(want)), features))


def usual_columns(features: int, classes: bool) -> float:
    """The square root of the columns (classes), or a third of them (numbers)."""
    return float(np.sqrt(features)) if classes else features / 3


def check_growing(of: str, **counts: float | None) -> None:
    """Every setting that was said must be 1 or more, `columns_…` and `…share` more than 0."""
    for name, value in counts.items():
        low = 0 if name.startswith("columns") or name.endswith("share") else 1
        if value is not None and not (value > 0 if low == 0 else value >= 1):
            raise UsageError(f"{of}: {name} must be {'more than 0' if low == 0 else '1 or more'}, not {value}")


def grow(
    train: Sample, work: Work, drawing: Drawing, *, trees: int = 1, columns_per_split: int, leaf_rows: int, depth: int | None,
    columns_per_tree: int = 0, at_random: bool = False, mark: Ints | None = None, whole_levels: bool = False,
) -> FittedForest:  # fmt: skip
    """Trees from one drawing of the rows, a stream of its own for each; with `whole_levels` those with fewer rows than a leaf
    are not told apart: where every column stands at every split, chance would put them in order."""
    bins = train.data
    target, leaf = Target.of(train, drawing.heaviest), max(1, round(leaf_rows * drawing.counted))
    marked = np.empty(0, np.int64) if mark is None else mark
    growth = Growth(
        bins.by_rows, np.ascontiguousarray(bins.codes), target, drawing, bins.counts, bins.category, columns_per_split,
        leaf, min(depth or DEEPEST, DEEPEST), work.key("forest"), marked, columns_per_tree, at_random, leaf if whole_levels else 1,
    )  # fmt: skip
    share = -(-trees // (UNITS_A_WORKER * work.at_once))  # the last unit is waited for by all
    a_unit = max(1, min(TREES_PER_UNIT, share), ROWS_PER_UNIT // max(1, bins.codes.shape[1]))
    units = [range(t, min(t + a_unit, trees)) for t in range(0, trees, a_unit)]
    return joined(train, growth, work.each(growth.trees_of, units))


@dataclass(frozen=True)
class Forest:
    """Bagged trees with random columns at each split.

    Parameters
    ----------
    trees : int
        Number of trees.
    columns_per_split : int, float or None
        Columns tried at each split: a count, a share below 1, or None for the square root (classes) or a third (numbers).
    leaf_rows : int
        Rows a leaf must hold; a row that was drawn twice counts twice.
    depth : int or None
        Most levels of a tree; None for as many as the rows allow.
    rows_per_tree : int or None
        Rows drawn with replacement for each tree; None for as many as there are, at most 50,000.
    columns_per_tree : int, float or None
        Columns that a tree may use, drawn for each; None for all.

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
    columns_per_tree: int | float | None = None

    learns: ClassVar[Form] = "bins"
    reads: ClassVar[Form] = "bins"
    gives: ClassVar[frozenset[Need]] = frozenset({"values", "labels", "scores", "probabilities"})
    label: ClassVar[str] = "forest"

    def __post_init__(self) -> None:
        check_growing(
            self.label, trees=self.trees, leaf_rows=self.leaf_rows, depth=self.depth, rows_per_tree=self.rows_per_tree,
            columns_per_split=self.columns_per_split, columns_per_tree=self.columns_per_tree,
        )  # fmt: skip

    def drawn_columns(self, features: int, classes: bool) -> int:
        return columns_of(self.columns_per_split, features, usual_columns(features, classes))

    def fit(self, train: Sample, work: Work) -> FittedForest:
        return self.grow(train, work)

    def grow(self, train: Sample, work: Work, units: Ints | None = None, mark: Ints | None = None) -> FittedForest:
        """The forest; rows of one unit (int64 (n,)) are drawn together, and `mark` has each tree tell whom it learned from."""
        p, n = train.data.codes.shape
        drawing = Drawing.of(n, train.weights, units, self.rows_per_tree or min(n, ROWS_PER_TREE))
        few = columns_of(self.columns_per_tree, p, p) if self.columns_per_tree is not None and p else 0
        return grow(
            train, work, drawing, trees=self.trees, columns_per_split=self.drawn_columns(few or p, bool(train.classes)) if p else 0,
            leaf_rows=self.leaf_rows, depth=self.depth, columns_per_tree=few, mark=mark,
        )  # fmt: skip


@dataclass(frozen=True)
class ExtremelyRandomForest:
    """Trees on all rows, each split the best of one cut a column that was drawn at random.

    Parameters
    ----------
    trees : int
        Number of trees.
    columns_per_split : int, float or None
        Columns tried at each split: a count, a share below 1, or None for the square root (classes) or a third (numbers).
    leaf_rows : int
        Fewest rows of a leaf.
    depth : int or None
        Most levels of a tree; None for as many as the rows allow.

    Notes
    -----
    A cut is drawn evenly among the bins that a node's rows reach. Weights count as whole numbers (a 64th of the heaviest row
    is the least step). Source: Geurts, Ernst and Wehenkel, 2006.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct"])
    >>> chaff.SubsetScorer(lots, chaff.ExtremelyRandomForest(trees=30))(["protein_pct", "ash_pct"]).mean > 0.05
    True
    """

    trees: int = 100
    columns_per_split: int | float | None = None
    leaf_rows: int = 3
    depth: int | None = None

    learns: ClassVar[Form] = "bins"
    reads: ClassVar[Form] = "bins"
    gives: ClassVar[frozenset[Need]] = Forest.gives
    label: ClassVar[str] = "extremely random forest"

    def __post_init__(self) -> None:
        counts = {"trees": self.trees, "leaf_rows": self.leaf_rows, "depth": self.depth, "columns_per_split": self.columns_per_split}
        check_growing(self.label, **counts)

    def fit(self, train: Sample, work: Work) -> FittedForest:
        p, n = train.data.codes.shape
        want = columns_of(self.columns_per_split, p, usual_columns(p, bool(train.classes))) if p else 0
        return grow(
            train, work, Drawing.once(n, train.weights), trees=self.trees, columns_per_split=want, leaf_rows=self.leaf_rows,
            depth=self.depth, at_random=True, whole_levels=True,
        )  # fmt: skip


@dataclass(frozen=True)
class Tree:
    """One tree on all rows and all columns.

    Parameters
    ----------
    leaf_rows : int
        Fewest rows of a leaf.
    depth : int or None
        Most levels of a tree; None for as many as the rows allow.
    columns_per_split : int, float or None
        Columns tried at each split; None for all.

    Notes
    -----
    Weights count as whole numbers (a 64th of the heaviest row is the least step). Source: Breiman, Friedman, Olshen and
    Stone, 1984.

    Examples
    --------
    >>> import chaff
    >>> chaff.Tree(depth=3).leaf_rows
    10
    """

    leaf_rows: int = 10
    depth: int | None = None
    columns_per_split: int | float | None = None

    learns: ClassVar[Form] = "bins"
    reads: ClassVar[Form] = "bins"
    gives: ClassVar[frozenset[Need]] = Forest.gives
    label: ClassVar[str] = "tree"

    def __post_init__(self) -> None:
        check_growing(self.label, leaf_rows=self.leaf_rows, depth=self.depth, columns_per_split=self.columns_per_split)

    def fit(self, train: Sample, work: Work) -> FittedForest:
        p, n = train.data.codes.shape
        want = columns_of(self.columns_per_split, p, p) if p else 0
        drawing = Drawing.once(n, train.weights)
        return grow(train, work, drawing, columns_per_split=want, leaf_rows=self.leaf_rows, depth=self.depth, whole_levels=True)
