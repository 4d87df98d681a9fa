"""A metric of all rows together, with its error: from the loss of each row, to first order."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.stats.paired_loss import MeanDifference, mean_difference

OfLosses = Callable[[float, float, float], float]


@dataclass(frozen=True)
class Units:
    """What belongs to the rows whose losses are pooled."""

    weights: Floats | None = None
    groups: Ints | None = None
    order: Floats | None = None

    def take(self, rows: Ints) -> Units:
        w, g, o = self.weights, self.groups, self.order
        return Units(None if w is None else w[rows], None if g is None else g[rows], None if o is None else o[rows])

    def mean(self, d: Floats, inflation: float = 1.0) -> MeanDifference:
        return mean_difference(d, self.weights, self.groups, self.order, inflation)


@dataclass(frozen=True)
class Pooled:
    """One score of some rows."""

    score: float
    se: float
    df: float
    slope: float
    """Change of the score for a unit of mean loss."""


def pooled(of_losses: OfLosses, loss: Floats, none: Floats, units: Units, inflation: float = 1.0) -> Pooled:
    """The score from the losses of rows (n,) and what knowing nothing loses on them, by the delta method."""
    w = np.ones(loss.size) if units.weights is None else units.weights
    total = float(w.sum())
    if not loss.size or total <= 0:
        return Pooled(float("nan"), float("nan"), 0.0, float("nan"))
    a, b = float((w * loss).sum() / total), float((w * none).sum() / total)

    def at(x: float, y: float) -> float:
        return of_losses(x * total, y * total, total)

    step_a, step_b = 1e-6 * max(abs(a), 1e-12), 1e-6 * max(abs(b), 1e-12)
    slope_a = (at(a + step_a, b) - at(a - step_a, b)) / (2 * step_a)
    slope_b = (at(a, b + step_b) - at(a, b - step_b)) / (2 * step_b)
    d = units.mean(slope_a * (loss - a) + slope_b * (none - b), inflation)
    return Pooled(at(a, b), d.se, d.df, slope_a)
