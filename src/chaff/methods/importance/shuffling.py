"""Cells of some features taken from other rows: freely, whole clusters together, or among rows whose neighbours are alike."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.models.fitted_trees import FittedForest
from chaff.models.forest import grow
from chaff.models.protocols import Sample
from chaff.models.tree_growth import Drawing
from chaff.table.bins import Bins
from chaff.table.design import Design
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
