"""Correlations of columns with gaps by maximum likelihood, so that they fit together whatever is missing where."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats
from chaff.kernels.expected_missing import expect_missing
from chaff.stats.inflation import inverse_of

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
    S = np.eye(q) if start is None else start.copy()
    inflated = np.zeros(q)
    for _ in range(MAX_STEPS):
        K = _inverse(S)
        now = np.diagonal(K) * np.diagonal(S)
        if (np.abs(now - inflated) <= STEADY * now).all():
            break
        inflated = now
        corrections = np.zeros((q, q))
        expect_missing(D, missing, starts, K, w, corrections)
        shift = (w @ D) / w.sum()
        D -= shift
        S = ((D * w[:, None]).T @ D + corrections) / w.sum()
        S = (S + S.T) / 2
    scale = np.sqrt(np.maximum(np.diagonal(S), RIDGE))
    C = S / np.outer(scale, scale)
    np.fill_diagonal(C, 1.0)
    return np.asarray((C + RIDGE * np.eye(q)) / (1 + RIDGE))


def _inverse(S: Floats) -> Floats:
    """S⁻¹, with a ridge that grows until there is one."""
    ridge = RIDGE
    while True:
        K = inverse_of(S + ridge * np.eye(S.shape[0]))
        if K is not None:
            return K
        ridge *= 10
