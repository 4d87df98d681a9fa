"""Permutation: how much worse a fitted model predicts held-out rows when one feature's values are shuffled among them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ModelError
from chaff.evaluate.fitted import PreparedSplit
from chaff.folds import Folds
from chaff.methods.importance.conditional import Conditional, permuted_given_others
from chaff.metrics import log_loss, squared_loss
from chaff.models.forms import BinsForm, take_rows
from chaff.models.protocols import Model, Sample, Shuffles
from chaff.stats.paired_loss import MeanDifference
from chaff.stats.pooled_metric import Units
from chaff.table.bins import Bins
from chaff.table.table import Table
from chaff.work import Work

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
