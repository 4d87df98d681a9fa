"""Mutual information by nearest neighbours: without bins, for small and middling numbers of rows."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.stats.tolerances import HAIR

NEIGHBOURS = 3


def between_numbers(x: Floats, y: Floats, neighbours: int = NEIGHBOURS) -> float:
    """Mutual information of two number columns, in nats, cut at 0.

    Parameters
    ----------
    x, y : float64 (n,), without gaps and, nearly, without ties (see `without_ties`)

    Notes
    -----
    The first of the two estimators of Kraskov, Stögbauer and Grassberger, 2004.
    """
    from scipy.spatial import cKDTree
    from scipy.special import digamma

    n = x.size
    if n <= neighbours or x.std() == 0 or y.std() == 0:
        return float("nan")
    points = np.column_stack([x / x.std(), y / y.std()])
    reach = cKDTree(points).query(points, k=[neighbours + 1], p=np.inf)[0][:, 0]
    inside = [_strictly_within(points[:, c], reach) for c in (0, 1)]
    value = digamma(neighbours) + digamma(n) - np.mean(digamma(inside[0] + 1) + digamma(inside[1] + 1))
    return float(max(value, 0.0))


def between_number_and_levels(x: Floats, levels: Ints, neighbours: int = NEIGHBOURS) -> float:
    """Mutual information of a number column with classes or levels, in nats, cut at 0.

    Levels of a single row are left out, as they have no neighbour of their own.  Source: Ross, 2014.
    """
    from scipy.special import digamma

    sizes = np.bincount(levels)
    subset = sizes[levels] > 1
    x, levels = x[subset], levels[subset]
    n = x.size
    if n <= neighbours or np.unique(levels).size < 2:
        return float("nan") if n <= neighbours or x.size == 0 else 0.0
    everything = np.sort(x)
    of_size, of_own, of_all = 0.0, 0.0, 0.0
    for level in np.unique(levels):
        own = np.sort(x[levels == level])
        k = min(neighbours, own.size - 1)
        reach = _kth_nearest(own, k) * (1.0 + HAIR)  # a hair wider, so that rounding does not lose the neighbour itself
        near = np.searchsorted(everything, own + reach, "right") - np.searchsorted(everything, own - reach, "left") - 1
        of_size += own.size * float(digamma(own.size))
        of_own += own.size * float(digamma(k))
        of_all += float(digamma(np.maximum(near, k)).sum())
    return float(max(digamma(n) + (of_own - of_size - of_all) / n, 0.0))


def without_ties(x: Floats, other: Floats, noise: Floats) -> Floats:
    """The column plus noise of one ten-thousand-millionth of its spread: neighbours need distances above zero.

    Noise is dealt out along the order of (x, other), so that it does not depend on the order of the rows.
    """
    scale = float(np.abs(x).mean()) if x.size else 1.0
    out = np.empty(x.size)
    order = np.lexsort((other, x))
    out[order] = x[order] + 1e-10 * scale * noise[: x.size]
    return out


def _kth_nearest(ascending: Floats, k: int) -> Floats:
    """Distance of each entry of a sorted column to its k-th nearest other entry."""
    n = ascending.size
    best = np.full(n, np.inf)
    for below in range(k + 1):  # k neighbours: so many below, the others above
        lo, hi = np.arange(n) - below, np.arange(n) + k - below
        fine = (lo >= 0) & (hi < n)
        at = np.flatnonzero(fine)
        reach = np.maximum(ascending[at] - ascending[lo[fine]], ascending[hi[fine]] - ascending[at])
        best[at] = np.minimum(best[at], reach)
    return best


def _strictly_within(x: Floats, reach: Floats) -> Floats:
    """How many other entries lie nearer than `reach`."""
    ascending = np.sort(x)
    low = np.searchsorted(ascending, x - reach * (1.0 - HAIR), "right")
    high = np.searchsorted(ascending, x + reach * (1.0 - HAIR), "left")
    answer: Floats = np.maximum(high - low - 1, 0).astype(float)
    return answer
