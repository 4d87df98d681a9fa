"""Scales of columns, learned on training rows, and models that take them: what a penalty or a distance is measured in."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal, get_args

import numpy as np
from scipy.special import ndtr, ndtri

from chaff.arrays import Floats
from chaff.metrics import Need
from chaff.models.least_squares import LeastSquares, Ridge
from chaff.models.neighbours import Neighbours
from chaff.models.protocols import Fitted, Form, Model, Sample
from chaff.table.design import Design
from chaff.work import Work

Scale = Literal["standard", "min-max", "robust", "log", "rank-normal", "none"]
SCALES: tuple[str, ...] = get_args(Scale)
NORMAL_QUARTILES = 1.349  # standard deviations between the quartiles of a normal column


@dataclass(frozen=True)
class NormalScores:
    """Normal scores of the places of training values, and back (Blom, 1958)."""

    values: Floats
    """Distinct, ascending."""
    places: Floats
    """Of equal values the mean of their places, as shares within (0, 1)."""

    @classmethod
    def learn(cls, train: Floats) -> NormalScores:
        ascending = np.sort(train)
        n = ascending.size
        places = (np.arange(1, n + 1) - 0.375) / (n + 0.25)
        values, first = np.unique(ascending, return_index=True)
        last = np.append(first[1:], n) - 1
        return cls(values, (places[first] + places[last]) / 2)

    def forward(self, values: Floats) -> Floats:
        return np.asarray(ndtri(np.interp(values, self.values, self.places)))

    def backward(self, scores: Floats) -> Floats:
        return np.asarray(np.interp(ndtr(scores), self.places, self.values))


@dataclass(frozen=True)
class Scaler:
    """What training rows say of each column: its fill, what is taken off, and by what it is divided; or how it is bent."""

    fills: Floats
    centre: Floats
    divide: Floats
    log: bool = False
    """Logarithm of 1 + what is left after the least training value is taken off."""
    ranks: tuple[NormalScores, ...] = ()

    @classmethod
    def learn(cls, X: Floats, w: Floats, how: str) -> Scaler:
        """X : float64 (rows, columns), NaN where missing."""
        seen = ~np.isnan(X)
        total = np.where(w @ seen > 0, w @ seen, 1.0)
        means = (w @ np.nan_to_num(X)) / total
        filled = np.where(seen, X, means)
        if how == "none":
            return cls(means, np.zeros_like(means), np.ones_like(means))
        if how == "log":
            return cls(means, filled.min(0), np.ones_like(means), log=True)
        if how == "rank-normal":
            return cls(means, np.zeros_like(means), np.ones_like(means), ranks=tuple(NormalScores.learn(x) for x in filled.T))
        if how == "standard":
            centre, divide = means, np.sqrt(w @ (filled - means) ** 2 / max(w.sum(), 1e-300))
        elif how == "min-max":
            centre, divide = filled.min(0), np.ptp(filled, axis=0)
        else:
            low, centre, high = np.quantile(filled, [0.25, 0.5, 0.75], axis=0)
            spread = (high - low) / NORMAL_QUARTILES
            divide = np.where(spread > 0, spread, np.sqrt(((filled - means) ** 2).mean(0)))  # half of a flag is often one value
        return cls(means, centre, np.where(divide > 0, divide, 1.0))

    def apply(self, X: Floats) -> Floats:
        Z = (np.where(np.isnan(X), self.fills, X) - self.centre) / self.divide
        if self.log:  # below anything seen in training the logarithm has no end: it stops half a unit under the lowest
            return np.asarray(np.log(np.maximum(1.0 + Z, 0.5)))
        return np.column_stack([r.forward(z) for r, z in zip(self.ranks, Z.T, strict=True)]) if self.ranks else Z


def _scaled(rows: Sample, scaler: Scaler) -> Sample:
    return replace(rows, data=Design(rows.data.layout, scaler.apply(rows.data.X)))


def _weights(rows: Sample) -> Floats:
    return np.ones(len(rows.targets)) if rows.weights is None else np.asarray(rows.weights, float)


@dataclass(frozen=True)
class FittedOnScale:
    """Coefficients on scaled columns."""

    scaler: Scaler
    coefficients: Floats
    means: Floats
    targets: Floats

    def predict(self, rows: Sample) -> Floats:
        return np.asarray((self.scaler.apply(rows.data.X) - self.means) @ self.coefficients + self.targets)


@dataclass(frozen=True)
class _OnScale:
    """What models on scaled columns share."""

    how: str
    model: Any

    learns: ClassVar[Form] = "design"
    reads: ClassVar[Form] = "design"

    @property
    def gives(self) -> frozenset[Need]:
        given: frozenset[Need] = self.model.gives
        return given

    @property
    def label(self) -> str:
        return f"{self.model.label}, {self.how}"


class LinearOnScale(_OnScale):
    """Least squares, and ridge whose penalty is charged on columns as they are scaled: on standardised ones it is `Ridge`, every level
    with a column."""

    def fit(self, train: Sample, work: Work) -> Fitted:
        w = _weights(train)
        scaler = Scaler.learn(train.data.X, w, self.how)
        Z = scaler.apply(train.data.X)
        means, targets = w @ Z / w.sum(), w @ train.targets / w.sum()
        A = (Z - means).T * w @ (Z - means)
        A[np.diag_indices(len(A))] += self.model.ridge_equivalent() * w.sum() + 1e-10 * np.trace(A) / max(len(A), 1)
        return FittedOnScale(scaler, np.linalg.solve(A, (Z - means).T * w @ (train.targets - targets)), means, targets)


class NeighboursOnScale(_OnScale):
    """Nearest neighbours by distances between columns as they are scaled."""

    def fit(self, train: Sample, work: Work) -> Fitted:
        w = _weights(train)
        scaler = Scaler.learn(train.data.X, w, self.how)
        fitted: Any = self.model.fit(train, work)
        answer: Fitted = replace(fitted, standard=scaler, Z=scaler.apply(train.data.X[np.flatnonzero(w > 0)]))
        return answer


@dataclass(frozen=True)
class FittedScaled:
    """A user's own model, fitted on scaled columns."""

    scaler: Scaler
    inner: Fitted

    def predict(self, rows: Sample) -> Floats:
        return self.inner.predict(_scaled(rows, self.scaler))


class OwnOnScale(_OnScale):
    """A user's own model that is given scaled columns."""

    def fit(self, train: Sample, work: Work) -> Fitted:
        scaler = Scaler.learn(train.data.X, _weights(train), self.how)
        return FittedScaled(scaler, self.model.fit(_scaled(train, scaler), work))


def on_scale(model: Model, how: str) -> Model | None:
    """The model on columns of that scale; None where it takes no notice of scales, being of trees or standardising itself."""
    if isinstance(model, Ridge | LeastSquares):
        return LinearOnScale(how, model)
    if isinstance(model, Neighbours):
        return NeighboursOnScale(how, model)
    if getattr(model, "own", False) and model.learns == "design":
        return OwnOnScale(how, model)
    return None
