"""Bounds of a share of rows."""

from __future__ import annotations

import numpy as np


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
