"""Least squares and ridge: learn from moments, predict from a design."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.metrics import Need
from chaff.models.protocols import Form, Sample
from chaff.stats.linear_model import pivoted_solve
from chaff.table.design import Design
from chaff.table.levels import TrainedLevels
from chaff.table.moments import Moments
from chaff.work import Work


@dataclass(frozen=True)
class FittedLinear:
    """Coefficients of every design column (0 for a base level or a column without spread)."""

    features: tuple[str, ...]
    coefficients: Floats
    """float64 (width, t), per unit of the column."""
    means: Floats
    """float64 (width,): training means, which also fill missing cells."""
    centre: Floats
    """float64 (t,): training means of the targets."""
    spread: Floats
    """float64 (width,): training standard deviations."""
    starts: Ints

    def predict(self, rows: Sample) -> Floats:
        design: Design = rows.data
        return self.centre + design.product(self.means, self.coefficients)

    def on_columns(self) -> tuple[Floats, Floats]:
        return self.coefficients * self.spread[:, None], self.coefficients

    def importance(self) -> Floats:
        """Length of each feature's standardised coefficients."""
        size = (self.coefficients * self.spread[:, None]) ** 2
        return np.array([np.sqrt(size[a:b].sum()) for a, b in zip(self.starts, self.starts[1:], strict=False)])


@dataclass(frozen=True)
class LeastSquares:
    """Ordinary least squares; with classes, least squares on class indicators.

    Singular sets get the pivoted fit: columns that are combinations of earlier pivots have coefficient 0.
    """

    learns: ClassVar[Form] = "moments"
    reads: ClassVar[Form] = "design"
    gives: ClassVar[frozenset[Need]] = frozenset({"values", "labels", "scores"})
    label: ClassVar[str] = "least squares"

    def ridge_equivalent(self) -> float:
        return 0.0

    def fit(self, train: Sample, work: Work) -> FittedLinear:
        return fit_linear(train.data, 0.0)


@dataclass(frozen=True)
class Ridge:
    """Ridge regression; with classes, ridge on class indicators.

    Parameters
    ----------
    penalty : float
        λ on columns standardised by their training rows, in units of rows: 0.01 adds a hundredth of the rows' own weight.

    Notes
    -----
    Source: Hoerl and Kennard, 1970.
    """

    penalty: float = 0.01

    learns: ClassVar[Form] = "moments"
    reads: ClassVar[Form] = "design"
    gives: ClassVar[frozenset[Need]] = frozenset({"values", "labels", "scores"})
    label: ClassVar[str] = "ridge"

    def __post_init__(self) -> None:
        if not self.penalty >= 0:
            raise UsageError(f"penalty must be 0 or more, not {self.penalty}")

    def ridge_equivalent(self) -> float:
        return self.penalty

    def fit(self, train: Sample, work: Work) -> FittedLinear:
        return fit_linear(train.data, self.penalty)


def fit_linear(train: Moments, penalty: float) -> FittedLinear:
    """Coefficients from training moments, missing cells at their training means."""
    layout = train.layout
    width = layout.width
    levels = TrainedLevels.learn(train)
    C = train.about(train.means)
    spread = np.sqrt(np.maximum(np.diagonal(C)[:width], 0.0) / max(train.weight, 1e-300))
    levels.fold(C)
    cols = levels.columns
    A = C[np.ix_(cols, cols)]
    A[np.diag_indices(cols.size)] *= 1.0 + penalty
    beta = np.zeros((width, layout.targets))
    beta[cols] = pivoted_solve(A, C[np.ix_(cols, np.arange(width, C.shape[0]))])
    levels.spread(beta)
    means = train.means + train.shift
    return FittedLinear(layout.features, beta, means[:width], means[width:], spread, layout.starts)
