"""Least squares and ridge from cross-products."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats
from chaff.stats.tolerances import SINGULAR


def pivoted_solve(A: Floats, B: Floats) -> Floats:
    """Coefficients (p, t) of A x = B for positive semidefinite A (p, p) and B (p, t); columns past the rank get 0.

    Columns are scaled to unit diagonal and enter in the order of the largest remaining pivot (ties: column order), so the
    answer for a singular set does not depend on how a search came to it.
    Source: pivoted Cholesky, Higham, 1990.
    """
    from scipy.linalg import solve_triangular
    from scipy.linalg.lapack import dpstrf

    if not A.size:
        return np.zeros((0, B.shape[1]))
    d = np.sqrt(np.diagonal(A))
    out = np.zeros(B.shape)
    live = np.flatnonzero(d > 0)
    scaled = A[np.ix_(live, live)] / np.outer(d[live], d[live])
    factor, pivots, rank, _ = dpstrf(scaled, lower=1, tol=SINGULAR)
    used = live[pivots[:rank] - 1]
    L = np.tril(factor[:rank, :rank])
    half = solve_triangular(L, B[used] / d[used, None], lower=True)
    out[used] = solve_triangular(L, half, lower=True, trans="T") / d[used, None]
    return out
