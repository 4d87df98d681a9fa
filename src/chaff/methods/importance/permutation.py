"""Permutation: how much worse a fitted model predicts held-out rows when one feature's values are shuffled among them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ModelError
from chaff.evaluate.fitted import PreparedSplit
from chaff.metrics import log_loss, squared_loss
from chaff.models.protocols import Model, Shuffles
from chaff.work import Work


@dataclass(frozen=True)
class ShuffleFold:
    """A prepared split → (loss change of every feature and test row, averaged over shuffles; scale of the losses)."""

    model: Model
    shuffles: int
    work: Work

    def __call__(self, unit: tuple[tuple[int, int], PreparedSplit]) -> tuple[Floats, float]:
        named, split = unit
        seed = replace(self.work, seed=self.work.key("importance", *named))
        fitted = self.model.fit(split.train, seed)
        if not isinstance(fitted, Shuffles):
            raise ModelError(f"{self.model.label} cannot say what shuffling a feature changes: it lacks the method `shuffled`; use forest")
        truth, n = split.truth, len(split.truth.targets)
        partners = np.array([seed.stream("shuffle", s).permutation(n) for s in range(self.shuffles)])
        predicted, blocks = fitted.shuffled(split.test, partners, seed)
        weights = truth.weights / truth.weights.mean()
        loss = log_loss if split.train.classes else squared_loss
        base = loss(truth.targets, predicted)
        out = np.empty((len(split.train.features), n))
        for where, change in blocks:
            after = loss(truth.targets[where], predicted[where] + change)
            out[:, where] = (after - base[where]).mean(0) * weights[where]
        around = squared_loss(truth.targets, truth.train_means[None, :])
        return out, 1.0 if split.train.classes else float(np.average(around, weights=weights))


def over_units(change: Floats, groups: Ints | None) -> tuple[Floats, Floats, float]:
    """Mean change per feature, its standard error over rows or groups, and the degrees of freedom.

    Parameters
    ----------
    change : float64 (features, rows)
    groups : int64 (rows,) or None
    """
    if groups is None:
        n = change.shape[1]
        return change.mean(1), change.std(1, ddof=1) / np.sqrt(n), n - 1.0
    codes, place = np.unique(groups, return_inverse=True)
    g, n = codes.size, change.shape[1]
    sums = np.zeros((change.shape[0], g))
    np.add.at(sums.T, place, change.T)
    size = np.bincount(place)
    mean = change.mean(1)
    # Sum over groups of the summed deviations: the variance of a ratio of sums over clusters (Liang and Zeger, 1986).
    off = sums - mean[:, None] * size
    return mean, np.sqrt((off**2).sum(1) * g / max(g - 1, 1)) / n, max(g - 1.0, 1.0)
