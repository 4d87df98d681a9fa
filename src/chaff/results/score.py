"""Scores over folds and their paired differences, with the variance that repeated folds deserve."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from chaff.arrays import Floats


def corrected_error(values: Floats, test_share: float) -> float:
    """Standard error of a mean over J folds x repeats: sqrt(S² (1/J + test rows / train rows)).

    The second term stands for the overlap of the training sets, so that the error does not vanish with repeats.
    Source: Nadeau and Bengio, 2003.
    """
    if values.size < 2:
        return float("nan")
    return float(np.sqrt(values.var(ddof=1) * (1.0 / values.size + test_share)))


@dataclass(frozen=True)
class Score:
    """How one set of features did."""

    features: frozenset[str]
    metric: str
    values: Floats
    """One value per fold and repeat, in the metric's own units."""
    test_share: float
    """Test rows over training rows."""
    also: Mapping[str, Floats] = field(default_factory=dict)
    """The same folds under other metrics, where that came for free."""

    @property
    def mean(self) -> float:
        return float(self.values.mean())

    @property
    def se(self) -> float:
        return corrected_error(self.values, self.test_share)

    def under(self, metric: str) -> Score:
        """The same set and folds under a metric of `also`."""
        if metric == self.metric:
            return self
        return Score(self.features, metric, self.also[metric], self.test_share)


@dataclass(frozen=True)
class Difference:
    """`mean` of a - b over the same folds, and its standard error."""

    mean: float
    se: float


def paired_difference(a: Floats, b: Floats, test_share: float) -> Difference:
    """The difference of two sets scored on the same folds, so that what makes a fold hard cancels."""
    d = np.asarray(a) - np.asarray(b)
    return Difference(float(d.mean()), corrected_error(d, test_share))
