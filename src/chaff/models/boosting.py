"""Gradient boosting: each tree is grown on what the trees before it have left."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.metrics import Need, log_loss, squared_loss
from chaff.models.fitted_trees import FittedForest, together
from chaff.models.forest import Forest, check_growing, columns_of, grow
from chaff.models.forms import inner_splits, take_rows
from chaff.models.protocols import Form, Sample
from chaff.models.tree_growth import Drawing
from chaff.stats.logistic import probabilities, start_at
from chaff.work import Work, task

LEAST_CURVATURE = 1e-12


@dataclass(frozen=True)
class FittedBoosting:
    """The trees' values add up, from where all rows start; with classes on the scale of log odds."""

    features: tuple[str, ...]
    trees: FittedForest
    start: Floats
    classes: int
    """0 for a number target."""
    rounds: int
    """Rounds that were grown: where early stopping was asked for, those that it found best."""
    inner_losses: Floats
    """float64 (rounds,): mean loss over the inner folds after each round; empty where nothing was stopped early."""

    def margins(self, rows: Sample) -> Floats:
        """float64 (n, t): sums of leaf values, before they become shares."""
        return np.asarray(self.start + (self.trees.predict(rows) * self.trees.trees if self.trees.trees else 0.0))

    def _shares(self, margins: Floats) -> Floats:
        if not self.classes:
            return margins
        return probabilities(margins.reshape(-1, margins.shape[-1])).reshape(margins.shape)

    def predict(self, rows: Sample) -> Floats:
        return np.asarray(self._shares(np.broadcast_to(self.margins(rows), rows.targets.shape).copy()))

    def importance(self) -> Floats:
        """Drop in squared error that a feature's splits brought, as a share of the total."""
        return self.trees.importance()

    def shuffled(self, rows: Sample, foreign: Sequence[Sample], work: Work) -> tuple[Floats, list[tuple[slice, Floats]]]:
        """As `FittedForest.shuffled`, on the scale of the predictions."""
        margins = np.broadcast_to(self.margins(rows), rows.targets.shape)
        base = self._shares(margins.copy())
        if not self.trees.trees:  # stopped before the first round: nothing moves
            return base, [(slice(0, len(base)), np.zeros((len(foreign), len(self.features), *base.shape)))]
        _, blocks = self.trees.shuffled(rows, foreign, work)
        text = [(where, self._shares(margins[where] + change * self.trees.trees) - base[where]) for where, change in blocks]
        return base, text


@dataclass(frozen=True)
class Boosting:
    """Gradient boosting of small trees.

    Parameters
    ----------
    rounds : int
        Trees one after the other; with more than two classes a tree a class in each round.
    rate : float
        Share of each tree that is added, in (0, 1].
    depth : int
        Levels of each tree.
    leaf_rows : int
        Fewest rows of a leaf.
    columns_per_split, columns_per_tree : int, float or None
        Columns tried at each split, and columns that a tree may use: a count, a share below 1, or None for all.
    row_share : float
        Share of the rows that each tree is grown on, drawn without replacement.
    leaf_penalty : float
        Rows' worth of nothing that every leaf holds beside its own.
    stop_after : int or None
        Stop when so many rounds have brought nothing on inner folds of its own; the best number of rounds is then grown on
        all training rows. None grows all rounds.
    inner_folds : int
        Folds inside the training rows that choose where to stop.

    Notes
    -----
    A tree is grown on the gradients by squared error; its leaves hold one Newton step of the loss. Source: Friedman, 2001; row
    shares: Friedman, 2002.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct"])
    >>> chaff.SubsetScorer(lots, chaff.Boosting(rounds=50, depth=2))(["protein_pct", "ash_pct"]).mean > 0.05
    True
    """

    rounds: int = 200
    rate: float = 0.1
    depth: int = 4
    leaf_rows: int = 10
    columns_per_split: int | float | None = None
    columns_per_tree: int | float | None = None
    row_share: float = 1.0
    leaf_penalty: float = 1.0
    stop_after: int | None = None
    inner_folds: int = 5

    learns: ClassVar[Form] = "bins"
    reads: ClassVar[Form] = "bins"
    gives: ClassVar[frozenset[Need]] = Forest.gives
    label: ClassVar[str] = "boosting"

    def __post_init__(self) -> None:
        check_growing(
            self.label, rounds=self.rounds, depth=self.depth, leaf_rows=self.leaf_rows, stop_after=self.stop_after,
            row_share=self.row_share, columns_per_split=self.columns_per_split, columns_per_tree=self.columns_per_tree,
        )  # fmt: skip
        if not 0 < self.rate <= 1 or self.row_share > 1 or not self.leaf_penalty >= 0 or self.inner_folds < 2:
            raise UsageError("boosting: rate and row_share must be in (0, 1], leaf_penalty 0 or more and inner_folds 2 or more")

    def fit(self, train: Sample, work: Work) -> FittedBoosting:
        rounds, losses = self.rounds, np.empty(0)
        if self.stop_after is not None:
            splits = inner_splits(train, self.inner_folds, work)
            curves = work.each(task(_curve, self, train, work), splits)
            if curves:
                longest = max(map(len, curves))
                losses = np.mean([np.pad(c, (0, longest - len(c)), mode="edge") for c in curves], axis=0)
                rounds = int(np.argmin(losses))
        walk = _Walk.of(self, train, work)
        for r in range(rounds):
            walk.grow(r)
        return walk.done(losses)


def _curve(model: Boosting, train: Sample, work: Work, split: tuple[Ints, Ints]) -> Floats:
    """Loss on an inner fold after 0, 1, … rounds, until nothing has been gained for `stop_after` rounds."""
    learn, test = (take_rows(train, rows) for rows in split)
    walk = _Walk.of(model, learn, work)
    weights = np.ones(len(test.targets)) if test.weights is None else test.weights
    loss = log_loss if train.classes else squared_loss
    margins = np.broadcast_to(walk.start, test.targets.shape).copy()
    curve: list[float] = []
    for r in range(model.rounds + 1):
        curve.append(float(np.average(loss(test.targets, probabilities(margins) if train.classes else margins), weights=weights)))
        if r == model.rounds or len(curve) - 1 - int(np.argmin(curve)) >= (model.stop_after or r + 1):
            break
        for tree in walk.grow(r):
            margins += tree.predict(test)
    return np.array(curve)


@dataclass
class _Walk:
    """Boosting so far."""

    model: Boosting
    train: Sample
    work: Work
    weights: Floats
    start: Floats
    margins: Floats
    trees: list[FittedForest]

    @classmethod
    def of(cls, model: Boosting, train: Sample, work: Work) -> _Walk:
        weights = np.ones(len(train.targets)) if train.weights is None else np.asarray(train.weights, float)
        start = start_at(train.targets, weights, 1)[0] if train.classes else np.average(train.targets, axis=0, weights=weights)
        return cls(model, train, work, weights, start, np.broadcast_to(start, train.targets.shape).copy(), [])

    def grow(self, r: int) -> list[FittedForest]:
        """One more round: a tree for each column of the target."""
        y = self.train.targets
        P = probabilities(self.margins) if self.train.classes else self.margins
        grown = [self._tree(r, t, y[:, t] - P[:, t], P[:, t]) for t in range(y.shape[1])]
        for tree in grown:
            self.margins += tree.predict(self.train)
        self.trees += grown
        return grown

    def _tree(self, r: int, t: int, gradient: Floats, P: Floats) -> FittedForest:
        m, (p, n) = self.model, self.train.data.codes.shape
        named = replace(self.work, seed=self.work.key("round", r, t))
        residual = replace(self.train, targets=gradient[:, None], classes=())
        few = columns_of(m.columns_per_tree, p, p) if m.columns_per_tree is not None and p else 0
        drawing = Drawing.once(n, self.train.weights, m.row_share)
        tree = grow(
            residual, named, drawing, columns_per_split=columns_of(m.columns_per_split, few or p, few or p) if p else 0,
            leaf_rows=m.leaf_rows, depth=m.depth, columns_per_tree=few, whole_levels=True,
        )  # fmt: skip
        leaf = tree.leaves(self.train)
        curvature = P * (1 - P) if self.train.classes else np.ones(n)
        k = self.train.targets.shape[1]
        if k > 1:
            curvature = curvature * (k / (k - 1))  # only the differences of the classes' margins count (Friedman, 2001)
        up = np.bincount(leaf, self.weights * gradient, tree.node.size)
        down = np.bincount(leaf, self.weights * curvature, tree.node.size) + m.leaf_penalty * self.weights.mean() * np.mean(curvature)
        value = np.zeros((tree.node.size, self.train.targets.shape[1]))
        value[:, t] = m.rate * up / np.maximum(down, LEAST_CURVATURE)
        return replace(tree, value=value)

    def done(self, losses: Floats) -> FittedBoosting:
        k = len(self.train.classes)
        forest = together(self.train.features, self.trees, self.train.targets.shape[1])
        return FittedBoosting(self.train.features, forest, self.start, k, len(self.trees) // self.train.targets.shape[1], losses)
