"""Tests of residuals: normality, constant variance, lack of fit."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.stats.tail_probabilities import chi_square_upper, f_upper


@dataclass(frozen=True)
class Test:
    statistic: float
    df: float
    p: float


def normality(e: Floats) -> tuple[Test, float, float]:
    """(test, skew, excess kurtosis): skewness and kurtosis together.  Source: D'Agostino and Pearson, 1973.

    Needs 20 rows; NaN below.
    """
    n = e.size
    z = e - e.mean()
    m2 = float((z**2).mean())
    if n < 20 or m2 == 0:
        return Test(float("nan"), 2.0, float("nan")), float("nan"), float("nan")
    skew, kurtosis = float((z**3).mean() / m2**1.5), float((z**4).mean() / m2**2)
    y = skew * np.sqrt((n + 1.0) * (n + 3) / (6.0 * (n - 2)))
    beta = 3.0 * (n * n + 27.0 * n - 70) * (n + 1) * (n + 3) / ((n - 2.0) * (n + 5) * (n + 7) * (n + 9))
    w2 = -1.0 + np.sqrt(2.0 * (beta - 1.0))
    z1 = np.arcsinh(y / np.sqrt(2.0 / (w2 - 1.0))) / np.sqrt(0.5 * np.log(w2))
    expected = 3.0 * (n - 1.0) / (n + 1)
    variance = 24.0 * n * (n - 2.0) * (n - 3) / ((n + 1.0) ** 2 * (n + 3) * (n + 5))
    x = (kurtosis - expected) / np.sqrt(variance)
    root = 6.0 * (n * n - 5.0 * n + 2) / ((n + 7.0) * (n + 9)) * np.sqrt(6.0 * (n + 3) * (n + 5) / (n * (n - 2.0) * (n - 3)))
    a = 6.0 + 8.0 / root * (2.0 / root + np.sqrt(1.0 + 4.0 / root**2))
    inner = (1.0 - 2.0 / a) / (1.0 + x * np.sqrt(2.0 / (a - 4.0)))
    z2 = (1.0 - 2.0 / (9.0 * a) - np.sign(inner) * np.abs(inner) ** (1 / 3)) / np.sqrt(2.0 / (9.0 * a))
    k2 = float(z1**2 + z2**2)
    return Test(k2, 2.0, float(chi_square_upper(np.array(k2), np.array(2.0)))), skew, kurtosis - 3.0


def constant_variance(e: Floats, X: Floats) -> Test:
    """n R² of the squared residuals on the columns.  Source: Breusch and Pagan, 1979, studentised by Koenker, 1981."""
    n, q = X.shape
    u = e**2
    Z = X - X.mean(0)
    v = u - u.mean()
    if not q or float(v @ v) == 0:
        return Test(float("nan"), float(q), float("nan"))
    fit = Z @ np.linalg.lstsq(Z, v, rcond=None)[0]
    statistic = n * float(fit @ fit) / float(v @ v)
    rank = float(np.linalg.matrix_rank(Z))
    return Test(statistic, rank, float(chi_square_upper(np.array(statistic), np.array(rank))))


def lack_of_fit(y: Floats, fitted: Floats, X: Floats) -> Test:
    """Whether squares and cubes of the fitted values still explain something.  Source: Ramsey, 1969."""
    n = y.size
    z = (fitted - fitted.mean()) / (fitted.std() or 1.0)
    base = np.column_stack([np.ones(n), X])
    more = np.column_stack([base, z**2, z**3])
    rss = [float(((y - M @ np.linalg.lstsq(M, y, rcond=None)[0]) ** 2).sum()) for M in (base, more)]
    df = n - np.linalg.matrix_rank(more)
    if df < 1 or rss[1] <= 0:
        return Test(float("nan"), 2.0, float("nan"))
    f = (rss[0] - rss[1]) / 2.0 / (rss[1] / df)
    return Test(float(f), 2.0, float(f_upper(np.array(f), np.array(2.0), np.array(float(df)))))
