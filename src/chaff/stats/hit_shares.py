"""Shares of hits: an exact interval, and an anytime-valid decision on which side of a limit a share lies."""

from __future__ import annotations

import numpy as np
from scipy import special

from chaff.arrays import Floats


def exact_interval(hits: int, of: int, level: float = 0.95) -> tuple[float, float]:
    """Two-sided interval of a share.  Source: Clopper and Pearson, 1934.

    >>> tuple(round(v, 3) for v in exact_interval(2, 10))
    (0.025, 0.556)
    """
    tail = (1 - level) / 2
    low = 0.0 if hits == 0 else float(special.betaincinv(hits, of - hits + 1, tail))
    high = 1.0 if hits == of else float(special.betaincinv(hits + 1, of - hits, 1 - tail))
    return low, high


def log_evidence_above(hits: Floats, of: Floats, limit: float) -> Floats:
    """Log of the evidence that the share of hits is above a limit: the likelihood, averaged evenly over all shares above, against
    that at the limit.

    It is a test martingale (or below one) where the share is the limit or less, so that it ever reaches 1 / level with a chance of
    at most the level, however often one looks. Source: Ville, 1939; Robbins, 1970.

    hits, of : float64, how often and of how many rounds.

    >>> bool(log_evidence_above(np.array([5.0]), np.array([5.0]), 0.5)[0] > np.log(10))
    True
    """
    hits, of = np.asarray(hits, float), np.asarray(of, float)
    misses = of - hits
    with np.errstate(divide="ignore"):
        average = special.betaln(hits + 1, misses + 1) + np.log(special.betaincc(hits + 1, misses + 1, limit)) - np.log1p(-limit)
    return np.asarray(average - hits * np.log(limit) - misses * np.log1p(-limit))


def log_evidence_below(hits: Floats, of: Floats, limit: float) -> Floats:
    """The same that the share is below a limit."""
    return log_evidence_above(np.asarray(of, float) - np.asarray(hits, float), of, 1.0 - limit)


def share_bounds(hits: float, count: float, level: float = 0.95) -> tuple[float, float]:
    """The shares that `hits` of `count` rows do not contradict; (0, 1) without rows.

    Source: Wilson, 1927.

    >>> low, high = share_bounds(5, 10)
    >>> round(low, 3), round(high, 3)
    (0.237, 0.763)
    """
    from scipy.special import ndtri

    if count <= 0:
        return 0.0, 1.0
    z = float(ndtri(0.5 + level / 2))
    p, spread = hits / count, z * z / count
    middle = (p + spread / 2) / (1 + spread)
    reach = z * float(np.sqrt(max(p * (1 - p), 0.0) / count + spread / (4 * count))) / (1 + spread)
    return min(max(0.0, middle - reach), p), max(min(1.0, middle + reach), p)  # rounding never leaves the share outside
