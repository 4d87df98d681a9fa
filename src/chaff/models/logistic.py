"""Ridge-penalised logistic regression: the linear model for classes."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ModelError, UsageError
from chaff.metrics import Need
from chaff.models.protocols import Form, Sample
from chaff.stats.logistic import fit_logistic, probabilities
from chaff.stats.tolerances import FLAT
from chaff.table.design import LEVELS_IN_LINEAR_FORM, Design, Layout
from chaff.work import Work


@dataclass(frozen=True)
class Standard:
    """How design columns become centred ones of unit spread, learned on training rows; flat columns are left out."""

    means: Floats
    """float64 (width,): training means, which also fill missing cells."""
    spread: Floats
    used: Ints

    @classmethod
    def learn(cls, X: Floats, weights: Floats) -> Standard:
        seen = ~np.isnan(X)
        w = weights[:, None] * seen
        with np.errstate(all="ignore"):
            means = np.nan_to_num((w * np.where(seen, X, 0.0)).sum(0) / w.sum(0))
        spread = np.sqrt((weights[:, None] * np.where(seen, X - means, 0.0) ** 2).sum(0) / weights.sum())
        return cls(means, spread, np.flatnonzero(spread > FLAT * np.maximum(np.abs(means), 1.0)))

    def pooled(self, layout: Layout) -> Standard:
        """Without the rare levels of categories that have more than the linear form takes: together they are the level that no
        column stands for."""
        out = np.zeros(self.means.size, bool)
        out[self.used] = True
        for f in np.flatnonzero(layout.category & (np.diff(layout.starts) > LEVELS_IN_LINEAR_FORM)):
            a, b = layout.starts[f], layout.starts[f + 1]
            rare = np.argsort(-self.means[a:b], kind="stable")[LEVELS_IN_LINEAR_FORM - 1 :]
            out[a + rare] = False
        return replace(self, used=np.flatnonzero(out))

    def on_columns(self, coefficients: Floats) -> tuple[Floats, Floats]:
        """Coefficients of the used columns (used, t) for all design columns: per standard deviation, and per unit."""
        standardised, raw = np.zeros((2, self.means.size, coefficients.shape[1]))
        standardised[self.used] = coefficients
        raw[self.used] = coefficients / self.spread[self.used][:, None]
        return standardised, raw

    def apply(self, X: Floats) -> Floats:
        """float64 (n, used)."""
        off = X[:, self.used] - self.means[self.used]
        return np.asarray(np.where(np.isnan(off), 0.0, off) / self.spread[self.used])


@dataclass(frozen=True)
class FittedLogistic:
    """Coefficients per standard deviation of each design column; 0 for columns without spread."""

    features: tuple[str, ...]
    standard: Standard
    coefficients: Floats
    """float64 (1 + used columns, k)."""
    starts: Ints
    separated: bool
    """Whether a plane tells the training classes apart without a mistake: only the penalty then holds the coefficients."""
    converged: bool

    def predict(self, rows: Sample) -> Floats:
        X = self.standard.apply(rows.data.X)
        return probabilities(self.coefficients[0] + X @ self.coefficients[1:])

    def remarks(self) -> tuple[str, ...]:
        if not self.separated:
            return ()
        return ("the training classes are linearly separable: only the penalty keeps the coefficients finite",)

    def on_columns(self) -> tuple[Floats, Floats]:
        return self.standard.on_columns(self.coefficients[1:])

    def importance(self) -> Floats:
        """Length of each feature's standardised coefficients."""
        size = np.zeros(self.starts[-1])
        size[self.standard.used] = (self.coefficients[1:] ** 2).sum(1)
        return np.array([np.sqrt(size[a:b].sum()) for a, b in zip(self.starts, self.starts[1:], strict=False)])


@dataclass(frozen=True)
class Logistic:
    """Logistic regression with a ridge penalty, for two or more classes.

    Parameters
    ----------
    penalty : float
        λ on columns standardised by their training rows, in units of rows, as in `Ridge`; over 0, so that classes that a
        plane can tell apart have finite coefficients all the same.

    Raises
    ------
    ModelError
        With a number target.

    Notes
    -----
    Every level of a category has a column of its own; a missing number counts as its training mean. Where a plane tells the
    training classes apart, the fit says so (`separated`). Source: le Cessie and van Houwelingen, 1992; several classes: Zhu
    and Hastie, 2004.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300, target="accepted").with_features(["protein_pct", "ash_pct"])
    >>> round(chaff.SubsetScorer(lots, chaff.Logistic())(["protein_pct"]).mean, 2) < 0.69
    True
    """

    penalty: float = 0.01

    learns: ClassVar[Form] = "design"
    reads: ClassVar[Form] = "design"
    gives: ClassVar[frozenset[Need]] = frozenset({"values", "labels", "scores", "probabilities"})
    targets: ClassVar[frozenset[str]] = frozenset({"classes"})
    label: ClassVar[str] = "logistic"

    def __post_init__(self) -> None:
        if not self.penalty > 0:
            raise UsageError(f"logistic: penalty must be over 0, not {self.penalty}")

    def fit(self, train: Sample, work: Work) -> FittedLogistic:
        return self.fit_from(train, None, work)

    def fit_from(self, train: Sample, near: FittedLogistic | None, work: Work) -> FittedLogistic:
        """The same fit, begun at the coefficients of one with nearly the same features; no difference but in the last digits."""
        if not train.classes:
            raise ModelError(f"{self.label} needs classes; the target is a number")
        design: Design = train.data
        weights = np.ones(len(train.targets)) if train.weights is None else train.weights
        standard = Standard.learn(design.X, weights)
        start = None if near is None else _started(near, train.features, standard, design.layout.starts)
        done = fit_logistic(standard.apply(design.X), train.targets, weights, self.penalty, start)
        return FittedLogistic(train.features, standard, done.coefficients, design.layout.starts, done.separated, done.converged)


def _started(near: FittedLogistic, features: tuple[str, ...], standard: Standard, starts: Ints) -> Floats:
    """Coefficients of a near fit in the places of these features' columns, float64 (1 + used, k); 0 for what it has not."""
    known = np.zeros((int(near.starts[-1]), near.coefficients.shape[1]))
    known[near.standard.used] = near.coefficients[1:]
    place = {f: k for k, f in enumerate(near.features)}
    whole = np.zeros((int(starts[-1]), near.coefficients.shape[1]))
    for k, f in enumerate(features):
        if f in place:
            whole[starts[k] : starts[k + 1]] = known[near.starts[place[f]] : near.starts[place[f] + 1]]
    return np.concatenate([near.coefficients[:1], whole[standard.used]])
