"""Permutation: how much worse a fitted model predicts held-out rows when one feature's values are shuffled among them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from chaff.arrays import Floats
from chaff.errors import ModelError
from chaff.evaluate.fitted import PreparedSplit
from chaff.folds import Folds
from chaff.methods.importance.conditional import Conditional, dealt_given_others
from chaff.metrics import log_loss, squared_loss
from chaff.models.forms import BinsForm
from chaff.models.protocols import Model, Sample, Shuffles
from chaff.stats.paired_loss import MeanDifference
from chaff.stats.pooled import Units
from chaff.table.bins import Bins
from chaff.table.table import Table
from chaff.work import Work


@dataclass(frozen=True)
class Changes:
    """What shuffling changed in one split, float64 (features, test rows): freely, and given the other features."""

    free: Floats
    given_others: Floats
    scale: float
    """Mean squared error of the training mean, for numbers; 1 for classes."""
    weights: Floats

    @property
    def importance(self) -> Floats:
        return np.asarray(np.average(self.free, axis=1, weights=self.weights) / self.scale)


@dataclass(frozen=True)
class ShuffleFold:
    """((repeat, test), prepared split) → what shuffling each feature changes."""

    table: Table
    folds: Folds
    model: Model
    shuffles: int
    work: Work

    def __call__(self, unit: tuple[tuple[int, int], PreparedSplit]) -> Changes:
        named, split = unit
        seed = replace(self.work, seed=self.work.key("importance", *named))
        fitted = self.model.fit(split.train, seed)
        if not isinstance(fitted, Shuffles) or not isinstance(split.reads, BinsForm):
            raise ModelError(f"{self.model.label} cannot say what shuffling a feature changes: it lacks the method `shuffled`; use forest")
        train, test = (self.table.take(r) for r in self.folds.rows(self.folds.splits[split.number]))
        given = Conditional.learn(train)
        freely = [freely_dealt(split.test, seed, s) for s in range(self.shuffles)]
        bound = [dealt_given_others(given, split.reads.binning, split.test, test, seed, s) for s in range(self.shuffles)]
        around = squared_loss(split.truth.targets, split.truth.train_means[None, :])
        scale = 1.0 if split.train.classes else float(np.average(around, weights=split.truth.weights)) or 1.0
        return Changes(self._rise(fitted, split, freely, seed), self._rise(fitted, split, bound, seed), scale, split.truth.weights)

    def _rise(self, fitted: Shuffles, split: PreparedSplit, foreign: Sequence[Sample], seed: Work) -> Floats:
        """Rise in loss, averaged over shuffles, float64 (features, rows)."""
        targets = split.truth.targets
        loss = log_loss if split.train.classes else squared_loss
        predicted, blocks = fitted.shuffled(split.test, foreign, seed)
        base = loss(targets, predicted)
        out = np.empty((len(split.train.features), len(targets)))
        for where, change in blocks:
            out[:, where] = (loss(targets[where], predicted[where] + change) - base[where]).mean(0)
        return out


def freely_dealt(rows: Sample, work: Work, shuffle: int) -> Sample:
    """The sample with its rows in another order."""
    order = work.stream("shuffle", shuffle).permutation(len(rows.targets))
    bins: Bins = rows.data
    return replace(rows, data=Bins(bins.features, np.ascontiguousarray(bins.codes[:, order]), bins.counts, bins.category))


def over_rows(parts: Sequence[Changes], table: Table, folds: Folds) -> list[MeanDifference]:
    """The mean change of each feature given the others, with its error: every row once, its repeats averaged first; sums of
    groups, or a long-run variance in time, where rows are no independent witnesses."""
    total = np.zeros((len(parts[0].given_others), len(table)))
    count = np.zeros(len(table))
    for split, part in zip(folds.splits, parts, strict=True):
        rows = folds.rows(split)[1]
        total[:, rows] += part.given_others
        count[rows] += 1
    some = np.flatnonzero(count)
    change = total[:, some] / count[some]
    units = Units(table.weights, table.groups, table.order).take(some)
    # Folds share training rows, the more the more often they are dealt: Nadeau and Bengio's correction, row by row.
    inflation = float(np.sqrt(1.0 + len(folds.parts) * folds.test_share))
    return [units.mean(c, inflation) for c in change]
