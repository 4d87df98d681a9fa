"""Nearest neighbours: a row is predicted by the training rows that are most like it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.metrics import Need
from chaff.models.logistic import Standard
from chaff.models.protocols import Form, Sample
from chaff.work import Work

BLOCK_CELLS = 4_000_000  # distances that are held at a time
NEAREST = 1e-6  # a distance under this counts as this where near rows count more


@dataclass(frozen=True)
class FittedNeighbours:
    """The training rows, standardised."""

    features: tuple[str, ...]
    standard: Standard
    Z: Floats
    targets: Floats
    weights: Floats
    shares: Floats
    """float64 (t,): training means, which count as one row more, so that no class is impossible; for classes."""
    neighbours: int
    by_distance: bool
    classes: tuple[str, ...]

    def predict(self, rows: Sample) -> Floats:
        Z = self.standard.apply(rows.data.X)
        step = max(1, BLOCK_CELLS // max(1, len(self.Z)))
        squares = (self.Z**2).sum(1)
        parts = [self._neighbour_means(Z[i : i + step], squares) for i in range(0, len(Z), step)]
        return np.concatenate(parts) if parts else np.empty((0, self.targets.shape[1]))

    def _neighbour_means(self, Z: Floats, squares: Floats) -> Floats:
        """Distances by one product: |a − b|² = |a|² − 2 a'b + |b|², of which |a|² puts nothing in another order."""
        off = squares - 2 * (Z @ self.Z.T)
        k = min(self.neighbours, len(self.Z))
        edge = np.partition(off, k - 1, axis=1)[:, k - 1 : k]
        scale = 1e-9 * (1 + np.abs(edge))
        near = off <= edge + scale  # all that are as near as the last one: their order in the table decides nothing
        tied = near & (off >= edge - scale)
        take = near.astype(float)
        over = near.sum(1) - k
        here = np.flatnonzero(over)
        take[here] = np.where(tied[here], 1 - over[here, None] / tied[here].sum(1)[:, None], take[here])
        take *= self.weights
        if self.by_distance:
            away = np.sqrt(np.maximum(off + (Z**2).sum(1)[:, None], 0.0))
            take /= np.maximum(away, NEAREST)
            take /= np.maximum(take.sum(1, keepdims=True), 1e-300) / k
        total = take.sum(1, keepdims=True)
        if self.classes:
            return np.asarray((take @ self.targets + self.shares) / (total + 1))
        return np.asarray(np.where(total > 0, (take @ self.targets) / np.where(total > 0, total, 1.0), self.shares))


@dataclass(frozen=True)
class Neighbours:
    """Mean of the nearest training rows, on standardised columns.

    Parameters
    ----------
    neighbours : int
        How many of the nearest training rows are averaged.
    closer : "alike" or "more"
        Whether near neighbours count as much as far ones, or more, by the inverse of their distance.

    Notes
    -----
    Rows that are as near as the last neighbour share its place. A missing number counts as its training mean, every level of a
    category has a column. With classes, one row's worth of the training shares is added. Distances of any size look alike in
    many columns: the fewer, the better it works. Source: Fix and Hodges, 1951; Cover and Hart, 1967.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct"])
    >>> chaff.SubsetScorer(lots, chaff.Neighbours(25))(["protein_pct", "ash_pct"]).mean > 0.05
    True
    """

    neighbours: int = 15
    closer: Literal["alike", "more"] = "alike"

    learns: ClassVar[Form] = "design"
    reads: ClassVar[Form] = "design"
    gives: ClassVar[frozenset[Need]] = frozenset({"values", "labels", "scores", "probabilities"})
    label: ClassVar[str] = "nearest neighbours"

    def __post_init__(self) -> None:
        if self.neighbours < 1 or self.closer not in ("alike", "more"):
            raise UsageError("nearest neighbours: neighbours must be 1 or more, closer 'alike' or 'more'")

    def fit(self, train: Sample, work: Work) -> FittedNeighbours:
        w = np.ones(len(train.targets)) if train.weights is None else np.asarray(train.weights, float)
        standard = Standard.learn(train.data.X, w).pooled(train.data.layout)
        subset = np.flatnonzero(w > 0)
        Z = standard.apply(train.data.X[subset])
        shares = np.average(train.targets, axis=0, weights=w)
        return FittedNeighbours(
            train.features, standard, Z, train.targets[subset], w[subset] / w[subset].mean(), shares, self.neighbours,
            self.closer == "more", train.classes,
        )  # fmt: skip
