"""Rank-sum test of two groups, for many groupings of the same values at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from chaff.stats.tails import Floats, normal_upper


def average_ranks(values: Floats) -> Floats:
    """Ranks 1..n, ties at their mean."""
    _, place, counts = np.unique(values, return_inverse=True, return_counts=True)
    last = np.cumsum(counts)
    return ((last - counts + 1 + last) / 2.0)[place]


@dataclass(frozen=True)
class RankSum:
    z: Floats
    p: Floats
    """Two-sided, normal approximation with ties."""
    cliffs_delta: Floats
    """P(inside > outside) - P(inside < outside); -1..1."""


def rank_sum(values: Floats, inside: npt.NDArray[np.bool_]) -> RankSum:
    """Wilcoxon rank-sum of `values` (n,) between the rows inside and outside each of m groupings (m, n).

    Source: Mann and Whitney, 1947; effect size: Cliff, 1993.
    """
    n = values.size
    ranks = average_ranks(values)
    n1 = inside.sum(1).astype(float)
    n0 = n - n1
    with np.errstate(all="ignore"):
        u = inside @ ranks - n1 * (n1 + 1) / 2
        # The variance of the ranks as they are holds the correction for ties.
        variance = n1 * n0 / (n * (n - 1.0)) * ((ranks - (n + 1) / 2) ** 2).sum()
        off = np.maximum(np.abs(u - n1 * n0 / 2) - 0.5, 0.0)
        z = np.sign(u - n1 * n0 / 2) * off / np.sqrt(variance)
        p = np.minimum(2.0 * normal_upper(np.abs(z)), 1.0)
        delta = 2.0 * u / (n1 * n0) - 1.0
    return RankSum(z, p, delta)
