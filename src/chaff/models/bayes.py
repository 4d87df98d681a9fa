"""Gaussian naive Bayes: each column by itself says how likely each class is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.errors import ModelError
from chaff.metrics import Need
from chaff.models.protocols import Form, Sample
from chaff.work import Work

LEAST_SPREAD = 1e-3  # of a column's own standard deviation: what a class may have at least


@dataclass(frozen=True)
class FittedBayes:
    """Means and spreads of numbers, shares of levels, in each class."""

    features: tuple[str, ...]
    prior: Floats
    """float64 (classes,), log."""
    means: Floats
    spreads: Floats
    """float64 (width, classes)."""
    level: Flags
    """Which design columns are levels of a category."""
    logs: Floats
    """float64 (width, classes), log shares of levels."""

    def predict(self, rows: Sample) -> Floats:
        X = rows.data.X
        total = np.repeat(self.prior[None, :], len(X), 0)
        number = X[:, ~self.level]
        for c in range(self.prior.size):
            z = (number - self.means[~self.level, c]) / self.spreads[~self.level, c]
            total[:, c] += np.where(np.isnan(z), 0.0, -0.5 * z * z - np.log(self.spreads[~self.level, c])).sum(1)
        total += np.nan_to_num(X[:, self.level]) @ self.logs[self.level]
        e = np.exp(total - total.max(1, keepdims=True))
        shares = e / e.sum(1, keepdims=True)
        return np.asarray(shares[:, 1:] if rows.targets.shape[1] == 1 else shares)


@dataclass(frozen=True)
class NaiveBayes:
    """Classes by the product of the likelihoods of the features: numbers normal within a class, categories by their shares.

    Raises
    ------
    ModelError
        With a number target.

    Notes
    -----
    A missing number says nothing; a level's share has one row added. Columns that say the same are counted as often as they
    are there, so that its probabilities are too sure of themselves. Source: Hand and Yu, 2001.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300, target="accepted").with_features(["protein_pct", "ash_pct"])
    >>> chaff.SubsetScorer(lots, chaff.NaiveBayes())(["protein_pct", "ash_pct"]).mean < 0.69
    True
    """

    learns: ClassVar[Form] = "design"
    reads: ClassVar[Form] = "design"
    gives: ClassVar[frozenset[Need]] = frozenset({"labels", "scores", "probabilities"})
    targets: ClassVar[frozenset[str]] = frozenset({"classes"})
    label: ClassVar[str] = "naive Bayes"

    def fit(self, train: Sample, work: Work) -> FittedBayes:
        if not train.classes:
            raise ModelError(f"{self.label} needs classes; the target is a number")
        X, layout = train.data.X, train.data.layout
        Y = train.targets if train.targets.shape[1] > 1 else np.concatenate([1 - train.targets, train.targets], axis=1)
        w = Y * (np.ones(len(Y)) if train.weights is None else train.weights)[:, None]
        level = np.repeat(layout.category, np.diff(layout.starts))
        seen, filled = ~np.isnan(X), np.nan_to_num(X)
        whole = w.sum(1)
        centre = (whole @ filled) / np.maximum(whole @ seen, 1e-300)
        spread = np.sqrt((whole @ (seen * (filled - centre) ** 2)) / np.maximum(whole @ seen, 1e-300))
        spread = np.where(spread > 0, spread, 1.0)
        weight = seen.T @ w
        means = np.where(weight > 0, (filled.T @ w) / np.where(weight > 0, weight, 1.0), centre[:, None])
        off = np.empty_like(means)
        for c in range(Y.shape[1]):
            off[:, c] = w[:, c] @ (seen * (filled - means[:, c]) ** 2)
        sd = np.sqrt(np.where(weight > 0, off / np.where(weight > 0, weight, 1.0), spread[:, None] ** 2))
        counts = filled.T @ w
        wide = np.repeat(np.diff(layout.starts), np.diff(layout.starts))[:, None]
        logs = np.log((np.where(level[:, None], counts, 0.0) + 1.0) / (w.sum(0) + wide))
        prior = np.log((w.sum(0) + 0.5) / (w.sum() + 0.5 * Y.shape[1]))
        return FittedBayes(train.features, prior, means, np.maximum(sd, LEAST_SPREAD * spread[:, None]), level, logs)
