"""Correlation from moments, and its test.

Correlations of columns with gaps by maximum likelihood, so that they fit together whatever is missing where.
"""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.kernels.row_blocks import expect_missing
from chaff.stats.inflation import inverse_of
from chaff.stats.tail_probabilities import t_two_sided
from chaff.stats.tolerances import FLAT
from chaff.work import blas_for

MAX_STEPS = 200
STEADY = 1e-4  # relative change of every variance inflation factor, below which the steps end
RIDGE = 1e-9  # added to each variance, so that a combination of others can be inverted


def correlations_with_gaps(X: Floats, weights: Floats | None = None, start: Floats | None = None) -> Floats:
    """The correlation matrix under which the cells that are there are likeliest, taken as normal.

    Parameters
    ----------
    X : float64 (n, q)
        NaN where a cell is missing. Not modified.
    weights : float64 (n,), optional
    start : float64 (q, q), optional
        Correlations to begin with; none when left out.

    Returns
    -------
    float64 (q, q)
        Positive definite.

    Notes
    -----
    Right also where a gap depends on other cells of its row, which correlations over shared rows are not. Source: EM, Dempster, Laird
    and Rubin, 1977; for normal columns Little and Rubin, 2002, chapter 11. The missing block of the inverse covariance gives the
    conditional means and covariances of a row's missing cells, so that a row costs its missing cells times the columns.
    """
    n, q = X.shape
    w = np.ones(n) if weights is None else weights
    there = ~np.isnan(X)
    total = np.maximum(w @ there, 1e-300)
    mean = (w @ np.where(there, X, 0.0)) / total
    D = np.where(there, X - mean, 0.0)
    spread = np.sqrt((w @ (D * D)) / total)
    D /= np.where(spread > 0, spread, 1.0)
    rows, missing = np.nonzero(~there)
    starts = np.searchsorted(rows, np.arange(n + 1)).astype(np.int64)
    with blas_for(n, q):
        S = _likeliest(D, missing, starts, w, np.eye(q) if start is None else start.copy())
    scale = np.sqrt(np.maximum(np.diagonal(S), RIDGE))
    C = S / np.outer(scale, scale)
    np.fill_diagonal(C, 1.0)
    return np.asarray((C + RIDGE * np.eye(q)) / (1 + RIDGE))


def _likeliest(D: Floats, missing: Ints, starts: Ints, w: Floats, S: Floats) -> Floats:
    """The covariance that the steps end at, begun at S. D : float64 (n, q), deviations; missing cells are filled in place."""
    q = S.shape[0]
    inflated = np.zeros(q)
    for _ in range(MAX_STEPS):
        K = _inverse(S)
        now = np.diagonal(K) * np.diagonal(S)
        if (np.abs(now - inflated) <= STEADY * now).all():
            break
        inflated = now
        corrections = np.zeros((q, q))
        expect_missing(D, missing, starts, K, w, corrections)
        D -= (w @ D) / w.sum()
        S = ((D * w[:, None]).T @ D + corrections) / w.sum()
        S = (S + S.T) / 2
    return S


def _inverse(S: Floats) -> Floats:
    """S⁻¹, with a ridge that grows until there is one."""
    ridge = RIDGE
    while True:
        K = inverse_of(S + ridge * np.eye(S.shape[0]))
        if K is not None:
            return K
        ridge *= 10


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
