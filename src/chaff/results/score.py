"""Scores over folds and their paired differences, with the variance that repeated folds deserve."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.metrics import METRICS
from chaff.results.digits import score
from chaff.results.plain import plain
from chaff.results.shown import table_html
from chaff.visible import Shown, listed


def corrected_error(values: Floats, test_share: float) -> float:
    """Standard error of a mean over J folds x repeats: sqrt(S² (1/J + test rows / train rows)).

    The second term stands for the overlap of the training sets, so that the error does not vanish with repeats.
    Source: Nadeau and Bengio, 2003.
    """
    if values.size < 2:
        return float("nan")
    return float(np.sqrt(values.var(ddof=1) * (1.0 / values.size + test_share)))


@dataclass(frozen=True, repr=False)
class Score(Shown):
    """How one set of features did."""

    features: frozenset[str]
    metric: str
    values: Floats
    """One value per fold and repeat, in the metric's own units; of R² each fold's part in that of all test rows."""
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

    def __str__(self) -> str:
        """`R² 0.61 ± 0.03 over 5 folds with 2 features: ash_pct, protein_pct`."""
        names = sorted(self.features)
        subset = listed(names, 6)
        count = f"{len(names)} feature{'s' * (len(names) != 1)}" + (f": {subset}" if names else ", baseline")
        label = METRICS[self.metric].label if self.metric in METRICS else self.metric
        error = f" ± {score(self.se)}" if self.se == self.se else ""
        return f"{label} {score(self.mean)}{error} over {self.values.size} fold{'s' * (self.values.size != 1)} with {count}"

    def _repr_html_(self) -> str:
        rows = [[f"{k}", score(float(v))] for k, v in enumerate(self.values, 1)]
        return table_html(str(self), ["fold", self.metric], rows)

    def as_plain(self) -> dict[str, Any]:
        return {
            "features": sorted(self.features),
            "metric": self.metric,
            "mean": plain(self.mean),
            "se": plain(self.se),
            "values": plain(self.values),
        }

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
