"""Shapley shares of R²: what each player adds, averaged over all orders in which they could come."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats
from chaff.stats.tolerances import SINGULAR

EXACT_UP_TO = 18


def exact_shares(C: Floats, r: Floats, starts: np.ndarray) -> Floats:
    """Shares of R² of m features (blocks of columns), from all 2^m subsets.

    Parameters
    ----------
    C : float64 (q, q), correlations of the columns.  r : float64 (q,), with the target.  starts : (m + 1,)

    Notes
    -----
    Subsets are walked in an order where each differs from its parent by one feature more.  Source: Shapley, 1953; for R²
    Lindeman, Merenda and Gold, 1980.
    """
    from math import comb

    m = starts.size - 1
    R2 = np.zeros(1 << m)
    A = np.block([[C, r[:, None]], [r[None, :], np.ones((1, 1))]])
    _walk(A, R2, 0, 0, m, starts)
    sizes = np.array([bin(s).count("1") for s in range(1 << m)])
    weight = np.array([1.0 / (m * comb(m - 1, s)) for s in range(m)])
    out = np.empty(m)
    every = np.arange(1 << m)
    for j in range(m):
        without = every[(every >> j) & 1 == 0]
        out[j] = (weight[sizes[without]] * (R2[without | (1 << j)] - R2[without])).sum()
    return out


def _walk(A: Floats, R2: Floats, held: int, first: int, m: int, starts: np.ndarray) -> None:
    """Fill R² of every subset that holds `held` and features from `first` on; A is swept on `held`."""
    for j in range(first, m):
        B = A.copy()
        for k in range(int(starts[j]), int(starts[j + 1])):
            if B[k, k] > SINGULAR:
                B -= np.outer(B[:, k], B[k]) / B[k, k]
        now = held | (1 << j)
        R2[now] = 1.0 - B[-1, -1]
        if j + 1 < m:
            _walk(B, R2, now, j + 1, m, starts)


def sampled_shares(C: Floats, r: Floats, starts: np.ndarray, orders: int, stream: np.random.Generator) -> tuple[Floats, Floats]:
    """(shares, their standard errors) from random orders, each walked forwards and backwards."""
    from scipy.linalg import cholesky

    m = starts.size - 1
    whole = np.block([[C, r[:, None]], [r[None, :], np.ones((1, 1))]]) + SINGULAR * np.eye(C.shape[0] + 1)
    drawn = np.empty((orders, m))
    for k in range(orders):
        order = stream.permutation(m)
        pair = []
        for subset in (order, order[::-1]):
            columns = np.concatenate([np.arange(starts[f], starts[f + 1]) for f in subset])
            L = cholesky(whole[np.ix_([*columns, C.shape[0]], [*columns, C.shape[0]])], lower=True)
            sizes = np.diff(starts)[subset]
            gain = np.add.reduceat(L[-1, :-1] ** 2, np.concatenate([[0], np.cumsum(sizes)[:-1]])) if len(columns) else np.zeros(m)
            placed = np.empty(m)
            placed[subset] = gain
            pair.append(placed)
        drawn[k] = np.mean(pair, 0)
    return drawn.mean(0), drawn.std(0, ddof=1) / np.sqrt(orders)
