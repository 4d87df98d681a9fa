"""Adjusting a family of p-values."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError, nearest


def benjamini_hochberg(p: Floats) -> Floats:
    """q-values: the smallest false discovery rate at which each would be called. NaN stays NaN and is not counted.

    Source: Benjamini and Hochberg, 1995.

    >>> benjamini_hochberg(np.array([0.01, 0.04, 0.03])).round(3).tolist()
    [0.03, 0.04, 0.04]
    """
    q = np.full(p.shape, np.nan)
    known = np.flatnonzero(~np.isnan(p))
    order = known[np.argsort(p[known], kind="stable")]
    m = order.size
    if m:
        raw = p[order] * m / np.arange(1, m + 1)
        q[order] = np.minimum(np.minimum.accumulate(raw[::-1])[::-1], 1.0)
    return q


def holm(p: Floats) -> Floats:
    """p-values adjusted so that the chance of any false call in the family stays below the level.

    Source: Holm, 1979.

    >>> holm(np.array([0.01, 0.04, 0.03])).round(3).tolist()
    [0.03, 0.06, 0.06]
    """
    out = np.full(p.shape, np.nan)
    known = np.flatnonzero(~np.isnan(p))
    order = known[np.argsort(p[known], kind="stable")]
    m = order.size
    if m:
        out[order] = np.minimum(np.maximum.accumulate(p[order] * (m - np.arange(m))), 1.0)
    return out


def bonferroni(p: Floats) -> Floats:
    """p times the size of the family.  Source: Dunn, 1961.

    >>> bonferroni(np.array([0.01, 0.04, 0.5])).round(3).tolist()
    [0.03, 0.12, 1.0]
    """
    answer: Floats = np.minimum(p * (~np.isnan(p)).sum(), 1.0)
    return answer


def benjamini_yekutieli(p: Floats) -> Floats:
    """False discovery rate under any dependence between the tests.  Source: Benjamini and Yekutieli, 2001.

    >>> benjamini_yekutieli(np.array([0.01, 0.04, 0.03])).round(3).tolist()
    [0.055, 0.073, 0.073]
    """
    m = int((~np.isnan(p)).sum())
    return np.minimum(benjamini_hochberg(p) * (1.0 / np.arange(1, m + 1)).sum(), 1.0) if m else p.copy()


ADJUSTMENTS = {"benjamini_hochberg": benjamini_hochberg, "benjamini_yekutieli": benjamini_yekutieli, "holm": holm, "bonferroni": bonferroni}


def adjust(p: Floats, method: str) -> Floats:
    """A family of p-values by the name of the adjustment."""
    if method not in ADJUSTMENTS:
        raise UsageError(f"unknown adjustment '{method}'; choose from {', '.join(ADJUSTMENTS)}.{nearest(method, ADJUSTMENTS)}")
    return ADJUSTMENTS[method](p)
