"""What trees have learned: predictions, what shuffled cells would change, and rows that a tree has not learned from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import numpy.typing as npt

from chaff.arrays import Bytes, Flags, Floats, Ints
from chaff.errors import UsageError
from chaff.kernels.tree_walks import DEEPEST, add_predictions, add_shapley, add_shuffle_changes, add_steps, node_means, out_of_bag_drops
from chaff.models.protocols import Sample
from chaff.models.tree_growth import Grown, Growth
from chaff.work import Work, task

CHANGE_BYTES = 1 << 22  # of changes kept at a time, so that they stay in cache
MOST_SHUFFLES = 64


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
    """uint8 (trees, marked rows), 1 where a tree has learned from the row."""

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

    def leaves(self, rows: Sample) -> Ints:
        """int64 (n,): the leaf of each row, as a place in `node`; of a single tree."""
        out = np.zeros((rows.data.codes.shape[1], 1))
        add_predictions(rows.data.by_rows, *self._walked[:4], np.arange(self.node.size, dtype=float)[:, None], out)
        return out[:, 0].astype(np.int64)

    def out_of_bag(self, train: Sample) -> tuple[Floats, Flags]:
        """Predictions (n, t) of the rows that a forest was grown on, each by the trees that have not learned from it, and
        which rows have such trees; grown with every row marked.

        Source: Breiman, 1996.
        """
        n = train.data.codes.shape[1]
        total, count = np.zeros((n, self.value.shape[1])), np.zeros(n)
        for t in range(self.trees):
            rows = np.flatnonzero(self.in_bag[t] == 0)
            a, b = self.first[t], self.first[t + 1]
            out = np.zeros((rows.size, self.value.shape[1]))
            codes = np.ascontiguousarray(train.data.by_rows[rows])
            add_predictions(codes, self.node[a:b], np.array([0, b - a]), self.pick[a:b], self.sets, self.value[a:b], out)
            total[rows] += out
            count[rows] += 1
        seen = count > 0
        return np.where(seen[:, None], total / np.maximum(count, 1)[:, None], np.nan), seen

    @cached_property
    def means(self) -> tuple[Floats, Floats]:
        """(weight, mean value (nodes, t)) of every node, from its leaves."""
        weight, mean = np.zeros(self.node.size), np.zeros(self.value.shape)
        node_means(self.node, self.first, self.pick, self.value, weight, mean)
        return weight, mean

    def steps(self, rows: Sample) -> Floats:
        """float64 (n, features, t): what the splits on each feature changed on a row's way; with the root they add up to the
        prediction. Source: Saabas, 2014."""
        n, p = rows.data.by_rows.shape
        out = np.zeros((n, p, self.value.shape[1]))
        add_steps(rows.data.by_rows, self.node, self.first, self.pick, self.sets, self.means[1], out)
        return out / max(self.trees, 1)

    def shapley(self, rows: Sample) -> Floats:
        """float64 (n, features, t): Shapley values, a feature that is not known followed down both sides by the training rows'
        weights; with the mean prediction they add up to the prediction. Source: Lundberg et al., 2020."""
        n, p = rows.data.by_rows.shape
        out = np.zeros((n, p, self.value.shape[1]))
        codes, room = rows.data.by_rows, chances(self.deepest)
        add_shapley(codes, self.node, self.first, self.pick, self.sets, self.value, self.means[0], room, out)
        return out / max(self.trees, 1)

    @property
    def deepest(self) -> int:
        """Splits on the longest way from a root to a leaf."""
        depth = np.zeros(self.node.size, np.int64)
        child = (self.node >> 32) + np.repeat(self.first[:-1], np.diff(self.first))
        for k in range(self.node.size):
            if child[k] != k:
                depth[child[k]] = depth[child[k] + 1] = depth[k] + 1
        return int(depth.max(initial=0))

    @property
    def expected(self) -> Floats:
        """float64 (t,): mean of the roots."""
        return np.asarray(self.means[1][self.first[:-1]].mean(0)) if self.trees else np.zeros(self.value.shape[1])

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
        """Mean rise in loss per feature when it is shuffled, float64 (features,), over the training rows that were marked, each
        predicted by the trees that have not learned from it: squared error, or log loss with classes.

        Source: Breiman, 2001.
        """
        codes = train.data.by_rows
        p, t = codes.shape[1], self.value.shape[1]
        weights = np.ones(len(codes)) if train.weights is None else train.weights
        permuted = [chosen[work.stream("shuffle", s).permutation(chosen.size)] for s in range(shuffles)]
        size = int(max(16, min(chosen.size, CHANGE_BYTES // max(1, 8 * shuffles * p * t))))
        room = Room.of(size, p, shuffles, t)
        drops = np.zeros((shuffles, p))
        kind = 0 if not train.classes else 1 if t > 1 else 2
        y = np.ascontiguousarray(train.targets, float)
        for i in range(0, chosen.size, size):
            foreign = np.array([codes[d[i : i + size]] for d in permuted], np.uint8)
            in_bag = np.ascontiguousarray(self.in_bag[:, i : i + size])
            out_of_bag_drops(codes, *self._walked, in_bag, foreign, chosen[i : i + size], y, weights, kind, *room, drops)
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


def joined(train: Sample, growth: Growth, parts: list[Grown]) -> FittedForest:
    """One forest of all parts, its leaves in the target's own units and, with classes, smoothed."""
    nodes = np.concatenate([g.nodes for g in parts])
    sets_before = np.concatenate([[0], np.cumsum(np.concatenate([g.set_counts for g in parts]))])[:-1]
    pick, value = np.concatenate([g.pick for g in parts]), np.concatenate([g.value for g in parts])
    if train.classes:
        weights = np.ones(len(train.targets)) if train.weights is None else train.weights
        shares = np.average(train.targets, axis=0, weights=weights)
        held, one = pick[:, None].astype(float), growth.drawing.counted  # how often one row counts
        value = (value * held + one * shares) / (held + one)
    else:
        value = value * growth.target.unit + growth.target.zero
    return FittedForest(
        train.features,
        np.concatenate([g.node for g in parts]),
        np.concatenate([[0], np.cumsum(nodes)]),
        pick + np.repeat(sets_before, nodes).astype(np.int32),
        np.concatenate([*(g.sets for g in parts), np.zeros((1, 4), np.uint64)]),
        value,
        np.concatenate([g.gains for g in parts]).sum(0),
        np.concatenate([g.in_bag for g in parts]),
    )


def together(features: tuple[str, ...], trees: Sequence[FittedForest], targets: int) -> FittedForest:
    """One forest of several, in their order."""
    none = np.zeros((1, 4), np.uint64)
    sizes = [0, *(t.node.size for t in trees)]
    sets_before = np.cumsum([0, *(len(t.sets) for t in trees)])
    joined_first = [np.zeros(1, np.int64)]
    for t, at in zip(trees, np.cumsum(sizes), strict=False):
        joined_first.append(t.first[1:] + at)
    return FittedForest(
        features,
        np.concatenate([np.empty(0, np.int64), *(t.node for t in trees)]),
        np.concatenate(joined_first),
        np.concatenate([np.empty(0, np.int32), *(t.pick + np.int32(b) for t, b in zip(trees, sets_before, strict=False))]),
        np.concatenate([none[:0], *(t.sets for t in trees), none]),
        np.concatenate([np.empty((0, targets)), *(t.value for t in trees)]),
        np.sum([np.zeros(len(features)), *(t.gains for t in trees)], axis=0),
        np.empty((len(trees), 0), np.uint8),
    )


def chances(longest: int) -> Floats:
    """float64 (longest + 1, longest + 1): |S|! (m - |S| - 1)! / m! at [m, |S|], how often a set of so many comes first."""
    out = np.zeros((longest + 1, longest + 1))
    for m in range(1, longest + 1):
        out[m, 0] = 1.0 / m
        for s in range(1, m):
            out[m, s] = out[m, s - 1] * s / (m - s)
    return out
