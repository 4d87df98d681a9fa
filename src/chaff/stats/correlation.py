"""Correlation from moments, and its test."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats
from chaff.stats.tail_probabilities import t_two_sided
from chaff.stats.tolerances import FLAT


def fisher_interval(r: Floats, rows: Floats, level: float = 0.95) -> tuple[Floats, Floats]:
    """Bounds of a correlation by Fisher's z; NaN below four rows. Source: Fisher, 1921."""
    from scipy.special import ndtri

    with np.errstate(all="ignore"):
        z = np.arctanh(np.clip(r, -1.0, 1.0))
        half = ndtri(0.5 + level / 2) / np.sqrt(rows - 3.0)
        low, high = np.tanh(z - half), np.tanh(z + half)
    few = np.asarray(rows) < 4
    return np.where(few, np.nan, low), np.where(few, np.nan, high)


def correlation_p(r: Floats, rows: Floats) -> Floats:
    """Two-sided p of r = 0 by t = r sqrt((n - 2) / (1 - r^2)); 0 at |r| = 1."""
    with np.errstate(all="ignore"):
        t = r * np.sqrt((rows - 2.0) / np.maximum(1.0 - r * r, 0.0))
        p = t_two_sided(t, rows - 2.0)
    return np.where(np.abs(r) >= 1.0, np.where(np.asarray(rows) > 2, 0.0, np.nan), p)


def correlation_from_products(N: Floats, S: Floats, Q: Floats, P: Floats) -> Floats:
    """Pairwise-complete Pearson r from pairwise moments.

    Parameters
    ----------
    N, S, Q, P : float64 (p, p)
        Weight of the rows where i and j are both present; sum of x_i and of x_i^2 over the rows where j is present; sum
        of x_i x_j.  All about any shift near the means.

    Returns
    -------
    float64 (p, p), symmetric, diagonal 1; NaN where a column is constant over the shared rows or no row is shared.
    """
    with np.errstate(all="ignore"):
        variance = Q - S * S / N
        # What is left after cancellation of sums of this size is rounding, not spread.
        variance = np.where(variance > FLAT * Q, variance, np.nan)
        r = (P - S * S.T / N) / np.sqrt(variance * variance.T)
    r = np.clip(r, -1.0, 1.0)
    np.fill_diagonal(r, np.where(np.isnan(np.diagonal(variance)), np.nan, 1.0))
    return r
