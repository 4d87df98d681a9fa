"""Bounds of an area under the ROC curve: from the rows' own spread, or from the rows' number where a class has few."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Flags, Floats

FEW = 20  # rows of a class, under which their spread is too rough an estimate
HALVINGS = 60


def few_rows_bounds(auc: Floats, own: Floats, rest: Floats, level: float) -> tuple[Floats, Floats]:
    """The areas that lie just so far from the one observed, by the variance that each would have; NaN under two rows a side.

    Source: Newcombe, 2006, method 5 (variance Hanley and McNeil, 1982).

    >>> low, high = few_rows_bounds(np.array([1.0]), np.array([6.0]), np.array([9.0]), 0.95)
    >>> bool(0.6 < low[0] < 0.9), float(high[0])
    (True, 1.0)
    """
    able = (own > 1) & (rest > 1) & ~np.isnan(auc)
    low = _side(auc, own, rest, level, able)
    high = 1.0 - _side(1.0 - auc, own, rest, level, able)
    return np.where(able, low, np.nan), np.where(able, high, np.nan)


def _side(auc: Floats, own: Floats, rest: Floats, level: float, able: Flags) -> Floats:
    from scipy.special import ndtri

    z, middle = ndtri(0.5 + level / 2), (own + rest) / 2.0
    auc = np.where(able, auc, 0.5)
    least = np.where(able, (own - 1.0) * (rest - 1.0), 1.0)
    low, high = np.zeros(auc.shape), np.maximum(auc - 1e-12, 0.0)
    for _ in range(HALVINGS):
        at = (low + high) / 2.0
        variance = at * (1.0 - at) * (2.0 * middle - 1.0 - (3.0 * middle - 3.0) / ((2.0 - at) * (1.0 + at))) / least
        far = auc - at > z * np.sqrt(np.maximum(variance, 0.0))
        low, high = np.where(far, at, low), np.where(far, high, at)
    return (low + high) / 2.0
