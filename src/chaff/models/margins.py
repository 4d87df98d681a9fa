"""Linear margin: squared hinge for classes, squared distance past ε for numbers."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import ClassVar

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.metrics import Need
from chaff.models.logistic import Standard
from chaff.models.protocols import Form, Sample
from chaff.stats.margins import fit_margin
from chaff.work import Work


@dataclass(frozen=True)
class FittedMargin:
    """Coefficients per standard deviation of each design column."""

    features: tuple[str, ...]
    standard: Standard
    intercepts: Floats
    coefficients: Floats
    """float64 (used columns, t)."""
    starts: Ints
    classes: tuple[str, ...]
    converged: bool

    def predict(self, rows: Sample) -> Floats:
        """Values; with classes scores, 0.5 on the plane that parts a class from the rest."""
        out = self.intercepts + self.standard.apply(rows.data.X) @ self.coefficients
        return 0.5 * (1 + out) if self.classes else np.asarray(out)

    def on_columns(self) -> tuple[Floats, Floats]:
        return self.standard.on_columns(self.coefficients)

    def importance(self) -> Floats:
        """Length of each feature's standardised coefficients."""
        size = np.zeros(self.starts[-1])
        size[self.standard.used] = (self.coefficients**2).sum(1)
        return np.array([np.sqrt(size[a:b].sum()) for a, b in pairwise(self.starts)])


@dataclass(frozen=True)
class LinearMargin:
    """Linear model with a loss only beyond a margin (support vector loss).

    Parameters
    ----------
    penalty : float
        λ on columns standardised by their training rows, in units of rows, as in `Ridge`; over 0.
    epsilon : float
        With a number target: errors under this share of its standard deviation cost nothing.

    Notes
    -----
    Classes by the squared hinge, each against the rest where there are more than two; numbers by the squared distance past ε.
    Both are smooth and are minimised by Newton's method. Source: Cortes and Vapnik, 1995; squared: Mangasarian, 2002.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300, target="accepted").with_features(["protein_pct", "ash_pct"])
    >>> chaff.SubsetScorer(lots, chaff.LinearMargin(), "accuracy")(["protein_pct", "ash_pct"]).mean > 0.5
    True
    """

    penalty: float = 0.01
    epsilon: float = 0.1

    learns: ClassVar[Form] = "design"
    reads: ClassVar[Form] = "design"
    gives: ClassVar[frozenset[Need]] = frozenset({"values", "labels", "scores"})
    label: ClassVar[str] = "linear margin"

    def __post_init__(self) -> None:
        if not self.penalty > 0 or not self.epsilon >= 0:
            raise UsageError("linear margin: penalty must be over 0 and epsilon 0 or more")

    def fit(self, train: Sample, work: Work) -> FittedMargin:
        y = train.targets
        w = np.ones(len(y)) if train.weights is None else np.asarray(train.weights, float)
        w = w / w.sum()
        standard = Standard.learn(train.data.X, w).pooled(train.data.layout)
        Z = standard.apply(train.data.X)
        centre, scale = np.zeros(y.shape[1]), np.ones(y.shape[1])
        if train.classes:
            y = 2 * y - 1
        else:
            centre = w @ y
            scale = np.sqrt(w @ (y - centre) ** 2)
            scale = np.where(scale > 0, scale, 1.0)
            y = (y - centre) / scale
        fits = [fit_margin(Z, y[:, t], w, self.penalty, None if train.classes else self.epsilon) for t in range(y.shape[1])]
        intercepts = centre + scale * np.array([f.intercept for f in fits])
        B = np.array([f.b for f in fits]).T.reshape(Z.shape[1], y.shape[1]) * scale
        return FittedMargin(
            train.features, standard, intercepts, B, train.data.layout.starts, train.classes, all(f.converged for f in fits)
        )  # fmt: skip
