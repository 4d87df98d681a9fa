"""Scales of columns, learned on training rows, and models that take them: what a penalty or a distance is measured in."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal, get_args

import numpy as np

from chaff.arrays import Floats
from chaff.metrics import Need
from chaff.models.least_squares import Ridge
from chaff.models.neighbours import Neighbours
from chaff.models.protocols import Fitted, Form, Model, Sample
from chaff.table.design import Design
from chaff.work import Work

Scale = Literal["standard", "range", "robust", "none"]
SCALES: tuple[str, ...] = get_args(Scale)
NORMAL_QUARTILES = 1.349  # standard deviations between the quartiles of a normal column


@dataclass(frozen=True)
class Scaler:
    """What training rows say of each column: its fill, what is taken off, and by what it is divided."""

    fills: Floats
    centre: Floats
    divide: Floats

    @classmethod
    def learn(cls, X: Floats, w: Floats, how: str) -> Scaler:
        """X : float64 (rows, columns), NaN where missing."""
        seen = ~np.isnan(X)
        total = np.where(w @ seen > 0, w @ seen, 1.0)
        means = (w @ np.nan_to_num(X)) / total
        filled = np.where(seen, X, means)
        if how == "none":
            return cls(means, np.zeros_like(means), np.ones_like(means))
        if how == "standard":
            centre, divide = means, np.sqrt(w @ (filled - means) ** 2 / max(w.sum(), 1e-300))
        elif how == "range":
            centre, divide = filled.min(0), np.ptp(filled, axis=0)
        else:
            low, centre, high = np.quantile(filled, [0.25, 0.5, 0.75], axis=0)
            spread = (high - low) / NORMAL_QUARTILES
            divide = np.where(spread > 0, spread, np.sqrt(((filled - means) ** 2).mean(0)))  # half of a flag is often one value
        return cls(means, centre, np.where(divide > 0, divide, 1.0))

    def apply(self, X: Floats) -> Floats:
        return (np.where(np.isnan(X), self.fills, X) - self.centre) / self.divide


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


class RidgeOnScale(_OnScale):
    """Ridge whose penalty is charged on columns as they are scaled: on standardised ones it is `Ridge`, every level with a column."""

    def fit(self, train: Sample, work: Work) -> Fitted:
        w = _weights(train)
        scaler = Scaler.learn(train.data.X, w, self.how)
        Z = scaler.apply(train.data.X)
        means, targets = w @ Z / w.sum(), w @ train.targets / w.sum()
        A = (Z - means).T * w @ (Z - means)
        A[np.diag_indices(len(A))] += self.model.penalty * w.sum() + 1e-10 * np.trace(A) / max(len(A), 1)
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
    """A person's own model, fitted on scaled columns."""

    scaler: Scaler
    inner: Fitted

    def predict(self, rows: Sample) -> Floats:
        return self.inner.predict(_scaled(rows, self.scaler))


class OwnOnScale(_OnScale):
    """A person's own model that is given scaled columns."""

    def fit(self, train: Sample, work: Work) -> Fitted:
        scaler = Scaler.learn(train.data.X, _weights(train), self.how)
        return FittedScaled(scaler, self.model.fit(_scaled(train, scaler), work))


def on_scale(model: Model, how: str) -> Model | None:
    """The model on columns of that scale; None where it takes no notice of scales, being of trees or standardising itself."""
    if isinstance(model, Ridge):
        return RidgeOnScale(how, model)
    if isinstance(model, Neighbours):
        return NeighboursOnScale(how, model)
    if getattr(model, "own", False) and model.learns == "design":
        return OwnOnScale(how, model)
    return None
