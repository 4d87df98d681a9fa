"""Distance correlation of two columns in n log n."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.kernels.neighbours import rising_products
from chaff.stats.tail_probabilities import chi_square_upper

FEWEST = 20  # under which the chi-square that stands for its distribution says little


@dataclass(frozen=True)
class Spread:
    """What distance correlation needs of one column by itself; the target's is made once."""

    values: Floats
    """Centred and divided by the standard deviation."""
    order: np.ndarray
    row_sums: Floats
    """Σ_j |x_i - x_j|."""
    square_sum: float
    """Σ_ij |x_i - x_j|²."""


def spread_of(values: Floats, order: np.ndarray | None = None) -> Spread:
    scale = float(values.std())
    x = (values - values.mean()) / scale if scale > 0 else values - values.mean()
    order = np.argsort(x) if order is None else order
    n = x.size
    ascending = x[order]
    below = np.cumsum(ascending)
    sums = np.empty(n)
    sums[order] = (2.0 * np.arange(1, n + 1) - n) * ascending + below[-1] - 2.0 * below
    return Spread(x, order, sums, 2.0 * n * float(x @ x) - 2.0 * float(x.sum()) ** 2)


@dataclass(frozen=True)
class DistanceCorrelation:
    correlation: float
    """0 (independent, with many rows) to 1; the square root of dCov² / sqrt(dVar² dVar²)."""
    corrected: float
    """Bias-corrected squared correlation: 0 on average when independent, may be negative."""
    p: float
    """Upper tail of a chi-square on the corrected value: a bound, a little too large; NaN under 20 rows."""


def distance_correlation(x: Spread, y: Spread) -> DistanceCorrelation:
    """Distance correlation; notices any kind of dependence.

    Source: Székely, Rizzo and Bakirov, 2007; Székely and Rizzo, 2014 (corrected); n log n: Chaudhuri and Hu, 2019;
    p: Shen, Panda and Vogelstein, 2022.
    """
    n = x.values.size
    nan = float("nan")
    if n < 4 or x.square_sum <= 0 or y.square_sum <= 0:
        return DistanceCorrelation(nan, nan, nan)
    a, b = x.values[x.order], y.values[x.order]
    everything = n * float(a @ b) - float(a.sum()) * float(b.sum())
    cross = 2.0 * (2.0 * rising_products(a, b, np.empty(n), np.empty(n)) - everything)
    plain = _product(x, y, cross, _biased)
    own = [_product(s, s, s.square_sum, _biased) for s in (x, y)]
    free = _product(x, y, cross, _unbiased)
    own_free = [_product(s, s, s.square_sum, _unbiased) for s in (x, y)]
    r2 = max(plain, 0.0) / np.sqrt(own[0] * own[1]) if min(own) > 0 else nan
    corrected = free / np.sqrt(own_free[0] * own_free[1]) if min(own_free) > 0 else nan
    p = float(chi_square_upper(np.array(max(n * corrected + 1.0, 0.0)), np.array(1.0))) if corrected == corrected and n >= FEWEST else nan
    return DistanceCorrelation(float(np.sqrt(min(r2, 1.0))), float(corrected), p)


def _product(x: Spread, y: Spread, cross: float, form: Callable[[float, float, float, float], float]) -> float:
    rows = float(x.row_sums @ y.row_sums)
    totals = float(x.row_sums.sum() * y.row_sums.sum())
    return form(cross, rows, totals, float(x.values.size))


def _biased(cross: float, rows: float, totals: float, n: float) -> float:
    return cross / n**2 - 2.0 * rows / n**3 + totals / n**4


def _unbiased(cross: float, rows: float, totals: float, n: float) -> float:
    return (cross - 2.0 * rows / (n - 2) + totals / ((n - 1) * (n - 2))) / (n * (n - 3))
