"""Permutation: how much worse a fitted model predicts held-out rows when one feature's values are shuffled among them.

Permuting a feature given all the others: what it shares with them stays, only what is its own is shuffled.

Cells of some features taken from other rows: freely, whole clusters together, or among rows whose neighbours are alike.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ModelError
from chaff.evaluate.fitted import PreparedSplit
from chaff.folds import Folds
from chaff.metrics import log_loss, squared_loss
from chaff.models.fitted_trees import FittedForest
from chaff.models.forest import grow
from chaff.models.forms import BinsForm, take_rows
from chaff.models.logistic import Standard
from chaff.models.protocols import Model, Sample, Shuffles
from chaff.models.tree_growth import Drawing
from chaff.stats.paired_loss import MeanDifference, Units
from chaff.table.bins import Binning, Bins
from chaff.table.design import Design
from chaff.table.table import Table
from chaff.work import Work

LEAST_ROWS = 20  # held-out rows of a leaf that are shuffled among themselves
NEIGHBOURS = 5
LEAST_SHARE = 0.01  # of a column's variance that another explains, to be a neighbour
MOST_LEVELS = 20


def with_cells(rows: Sample, features: Sequence[str], order: Ints) -> Sample:
    """The sample with the cells of some features taken from the rows in another order."""
    place = {f: k for k, f in enumerate(rows.features)}
    which = [place[f] for f in features]
    data: Any = rows.data
    if isinstance(data, Bins):
        codes = data.codes.copy()
        codes[which] = codes[which][:, order]
        return replace(rows, data=Bins(data.features, codes, data.counts, data.category))
    if isinstance(data, Design):
        starts = data.layout.starts
        columns = np.concatenate([np.arange(starts[k], starts[k + 1]) for k in which])
        X = data.X.copy()
        X[:, columns] = X[order][:, columns]
        return replace(rows, data=Design(data.layout, X))
    frame = data.copy()
    for f in features:
        frame[f] = data[f].take(order).set_axis(frame.index)
    return replace(rows, data=frame)


def likeness(bins: Bins) -> Floats:
    """float64 (p, p): root of the share of column i's variance that column j explains, the larger of both ways; categories by
    the means of their levels."""
    codes = bins.codes.astype(float)
    centred = codes - codes.mean(1, keepdims=True)
    size = np.sqrt((centred**2).sum(1))
    unit = centred / np.where(size > 0, size, 1.0)[:, None]
    out = np.abs(unit @ unit.T)
    for k in np.flatnonzero(bins.category):
        count = np.bincount(bins.codes[k], minlength=256).astype(float)
        for j in range(len(codes)):
            sums = np.bincount(bins.codes[k], unit[j], 256)
            share = float((sums**2 / np.maximum(count, 1)).sum())
            out[j, k] = np.sqrt(min(1.0, share))
    out = np.maximum(out, out.T)
    np.fill_diagonal(out, 1.0)
    return np.asarray(out)


def clusters(bins: Bins, limit: float) -> list[tuple[int, ...]]:
    """Columns that are alike, by average linkage on 1 − likeness, cut at 1 − limit."""
    from scipy.cluster.hierarchy import fcluster, linkage
    from scipy.spatial.distance import squareform

    if len(bins.features) < 2:
        return [(k,) for k in range(len(bins.features))]
    away = np.clip(1 - likeness(bins), 0.0, 1.0)
    np.fill_diagonal(away, 0.0)
    label = fcluster(linkage(squareform(away, checks=False), "average"), 1 - limit, "distance")
    return [tuple(int(k) for k in np.flatnonzero(label == v)) for v in dict.fromkeys(label.tolist())]


@dataclass(frozen=True)
class Strata:
    """For each feature the rows among which its cells are exchangeable."""

    labels: tuple[Ints, ...]

    @classmethod
    def learn(cls, train: Sample, test: Sample, work: Work) -> Strata:
        """From a small tree of each feature's neighbours, grown on training rows; both samples in bins."""
        like = likeness(train.data)
        np.fill_diagonal(like, 0.0)
        return cls(tuple(_leaves(train, test, f, like[f], work) for f in range(len(train.features))))

    def deal(self, f: int, rng: np.random.Generator) -> Ints:
        """An order of the rows that moves each within its stratum."""
        label = self.labels[f]
        out = np.empty(label.size, np.int64)
        within = np.argsort(label, kind="stable")
        out[within] = within[np.lexsort((rng.random(label.size), label[within]))]
        return out


def _leaves(train: Sample, test: Sample, f: int, like: Floats, work: Work) -> Ints:
    """int64 (test rows,): the leaf, or the node above it that holds enough held-out rows."""
    near = np.argsort(-like, kind="stable")[:NEIGHBOURS]
    near = np.sort(near[like[near] ** 2 > LEAST_SHARE])
    n = test.data.codes.shape[1]
    if not near.size:
        return np.zeros(n, np.int64)
    names = tuple(train.features[k] for k in near)
    codes = train.data.codes[f].astype(np.int64)
    if train.data.category[f]:
        codes = np.minimum(codes, MOST_LEVELS)
        levels = int(codes.max()) + 1
        targets, classes = (np.eye(levels)[codes], tuple(map(str, range(levels)))) if levels > 2 else (codes[:, None] * 1.0, ("0", "1"))
    else:
        targets, classes = codes[:, None] * 1.0, ()
    subset = replace(train, features=names, data=train.data.select(names), targets=targets, classes=classes)
    rows = len(codes)
    leaf_rows = max(5, round(LEAST_ROWS * rows / max(n, 1)))
    tree = grow(
        subset, Work(work.key("strata", train.features[f]), 1), Drawing.once(rows, train.weights), columns_per_split=len(names),
        leaf_rows=leaf_rows, depth=6, whole_levels=True,
    )  # fmt: skip
    return _merged(tree, tree.leaves(replace(test, features=names, data=test.data.select(names))))


def _merged(tree: FittedForest, leaf: Ints) -> Ints:
    """Leaves with too few rows go up until the node above holds enough."""
    parent = np.zeros(tree.node.size, np.int64)
    child = tree.node >> 32
    for k in range(tree.node.size):
        if child[k] != k:
            parent[child[k]] = parent[child[k] + 1] = k
    label = leaf.copy()
    for k in range(tree.node.size - 1, 0, -1):  # children stand behind their parents
        here = label == k
        if 0 < here.sum() < LEAST_ROWS:
            above = parent[k]
            below = _under(tree, above)
            label[np.isin(label, below)] = above
    return label


def _under(tree: FittedForest, node: int) -> Ints:
    """A node and all below it."""
    todo, out = [int(node)], []
    while todo:
        k = todo.pop()
        out.append(k)
        child = int(tree.node[k] >> 32)
        if child != k:
            todo += [child, child + 1]
    return np.array(out)


RIDGE = 0.02  # of a column's own variance, so that near copies leave each other a little of their own
LEARNED_ROWS = 50_000  # evenly over a longer table: lines through more of them are the same lines
STRATUM = 12  # rows among which a category is shuffled: those of which the others say about the same


@dataclass(frozen=True)
class Conditional:
    """What all other columns say of each, learned on training rows."""

    standard: Standard
    precision: Floats
    """float64 (used columns, used columns): inverse of the correlation matrix."""
    columns: tuple[Ints, ...]
    """Used columns of each feature."""

    @classmethod
    def learn(cls, train: Table) -> Conditional:
        if len(train) > LEARNED_ROWS:
            train = train.take(np.linspace(0, len(train) - 1, LEARNED_ROWS).astype(np.int64))
        design = Design.of(train, train.features)
        weights = np.ones(len(train)) if train.weights is None else train.weights
        standard = Standard.learn(design.X, weights)
        Z = standard.apply(design.X)
        C = (Z * weights[:, None]).T @ Z / weights.sum()
        ridge = RIDGE + Z.shape[1] / max(len(train), 1) * 0.1
        place = {int(c): k for k, c in enumerate(standard.used)}
        starts = design.layout.starts
        columns = tuple(
            np.array([place[c] for c in range(starts[k], starts[k + 1]) if c in place], np.int64) for k in range(len(train.features))
        )
        return cls(standard, np.linalg.inv(C + ridge * np.eye(len(C))), columns)

    def own(self, Z: Floats, columns: Ints) -> Floats:
        """What the others do not say of some columns, float64 (n, columns): residuals of a ridge regression on all others."""
        block = self.precision[np.ix_(columns, columns)]
        return np.asarray(np.linalg.solve(block, (Z @ self.precision[:, columns]).T).T)


def permuted_given_others(result: Conditional, binning: Binning, rows: Sample, table: Table, work: Work, shuffle: int) -> Sample:
    """The sample with every feature's cells dealt out given the others, each feature by itself.

    Parameters
    ----------
    rows, table : Sample, Table
        Held-out rows in bins, and as they are.
    """
    Z = result.standard.apply(Design.of(table, table.features).X)
    codes = rows.data.codes.copy()
    for f, name in enumerate(table.features):
        stream, columns = work.stream("given others", shuffle, name), result.columns[f]
        column = table.column(name)
        if not columns.size:
            codes[f] = codes[f][stream.permutation(len(table))]
            continue
        own = result.own(Z, columns)
        given = Z[:, columns] - own
        if column.kind != "number" or column.missing.any():
            codes[f] = codes[f][within_strata(given, stream)]
            continue
        rerun = given[:, 0] + own[stream.permutation(len(table)), 0]
        at = result.standard.used[columns[0]]
        codes[f] = binning.bins[f].code(rerun * result.standard.spread[at] + result.standard.means[at])
    return replace(rows, data=Bins(rows.data.features, codes, rows.data.counts, rows.data.category))


def within_strata(given: Floats, stream: np.random.Generator) -> Ints:
    """A permutation of the rows that moves each among those of which the others say about the same."""
    n = len(given)
    centred = given - given.mean(0)
    if given.shape[1] > 1:
        direction = np.linalg.svd(centred, full_matrices=False)[2][0]
        score = centred @ direction
    else:
        score = centred[:, 0]
    order = np.lexsort((stream.random(n), score))
    shift = stream.integers(0, STRATUM)
    stratum = (np.arange(n) + shift) // STRATUM
    out = np.empty(n, np.int64)
    out[order] = order[np.lexsort((stream.random(n), stratum))]
    return out


LEAST_REPEATS = 3
MOST_ROWS = 4_000  # of a fold that are shuffled; more change no ranking


@dataclass(frozen=True)
class ShuffleLosses:
    """What shuffling changed in one split, float64 (features, judged rows): freely, and given the other features."""

    rows: Ints
    """Which of the test rows were judged."""
    free: Floats
    given_others: Floats
    scale: float
    """Mean squared error of the training mean, for numbers; 1 for classes."""
    weights: Floats

    @property
    def importance(self) -> Floats:
        """Mean rise of the loss, float64 (features,)."""
        return np.asarray(np.average(self.free, axis=1, weights=self.weights))


@dataclass(frozen=True)
class ShuffleFold:
    """((repeat, test), prepared split) → what shuffling each feature changes."""

    table: Table
    folds: Folds
    model: Model
    shuffles: int
    work: Work

    def __call__(self, unit: tuple[tuple[int, int], PreparedSplit]) -> ShuffleLosses:
        named, split = unit
        seed = replace(self.work, seed=self.work.key("importance", *named))
        fitted = self.model.fit(split.train, seed)
        if not isinstance(fitted, Shuffles) or not isinstance(split.reads, BinsForm):
            raise ModelError(
                f"{self.model.label} cannot report what permuting a feature changes: it lacks the method `shuffled`; use forest"
            )
        train, test = (self.table.take(r) for r in self.folds.rows(self.folds.splits[split.number]))
        given, rows = Conditional.learn(train), judged_rows(len(test), seed)
        held, test = take_rows(split.test, rows), test.take(rows)
        freely = [freely_permuted(held, seed, s) for s in range(self.shuffles)]
        bound = [permuted_given_others(given, split.reads.binning, held, test, seed, s) for s in range(self.shuffles)]
        around, weights = squared_loss(held.targets, split.truth.train_means[None, :]), split.truth.weights[rows]
        scale = 1.0 if held.classes else float(np.average(around, weights=weights)) or 1.0
        free, bound_rise = (self._rise(fitted, held, foreign, seed) for foreign in (freely, bound))
        return ShuffleLosses(rows, free, bound_rise, scale, weights)

    def _rise(self, fitted: Shuffles, held: Sample, foreign: Sequence[Sample], seed: Work) -> Floats:
        """Rise in loss, averaged over shuffles, float64 (features, rows)."""
        targets = held.targets
        loss = log_loss if held.classes else squared_loss
        predicted, blocks = fitted.shuffled(held, foreign, seed)
        base = loss(targets, predicted)
        out = np.empty((len(held.features), len(targets)))
        for where, change in blocks:
            out[:, where] = (loss(targets[where], predicted[where] + change) - base[where]).mean(0)
        return out


def judged_rows(n: int, work: Work) -> Ints:
    """Rows that are shuffled: all, or a sample of many."""
    if n <= MOST_ROWS:
        return np.arange(n)
    return np.sort(work.stream("judged rows").choice(n, MOST_ROWS, replace=False))


def freely_permuted(rows: Sample, work: Work, shuffle: int) -> Sample:
    """The sample with its rows in another order."""
    order = work.stream("shuffle", shuffle).permutation(len(rows.targets))
    bins: Bins = rows.data
    return replace(rows, data=Bins(bins.features, np.ascontiguousarray(bins.codes[:, order]), bins.counts, bins.category))


def over_rows(parts: Sequence[ShuffleLosses], table: Table, folds: Folds) -> list[MeanDifference]:
    """The mean change of each feature given the others, with its error: every row once, its repeats averaged first; sums of
    groups, or a long-run variance in time, where rows are no independent witnesses."""
    judged = [folds.rows(split)[1][part.rows] for split, part in zip(folds.splits, parts, strict=True)]
    subset = np.unique(np.concatenate(judged))
    total, count = np.zeros((len(parts[0].given_others), subset.size)), np.zeros(subset.size)
    for rows, part in zip(judged, parts, strict=True):
        at = np.searchsorted(subset, rows)
        total[:, at] += part.given_others
        count[at] += 1
    change = total / count
    units = (table.units or Units()).take(subset)
    # Folds share training rows, the more the more often they are dealt: Nadeau and Bengio's correction, row by row. Dealt once,
    # it is that of three times: with less, something was beyond chance in 13 % of tables of noise (benchmarks/rates.py).
    inflation = float(np.sqrt(1.0 + max(len(folds.parts), LEAST_REPEATS) * folds.test_share))
    return [units.mean(c, inflation) for c in change]
