"""Variance inflation from an inverse correlation matrix, and its update when a feature goes."""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel

ROUNDING = 1e-13


@kernel
def determinant(M, columns, L):
    """Determinant of the positive definite block M[columns, columns], columns ascending; 0 when it is not. Only the upper
    triangle of M is read.  L is overwritten."""
    b = columns.size
    det = 1.0
    for i in range(b):
        for j in range(i + 1):
            x = M[columns[j], columns[i]]
            for l in range(j):
                x -= L[i, l] * L[j, l]
            if i == j:
                if x <= 0.0:
                    return 0.0
                det *= x
                L[i, i] = np.sqrt(x)
            else:
                L[i, j] = x / L[j, j]
    return det


@kernel
def inflation_of(P, f, starts, columns, own, L):
    """(Generalised) VIF of feature f on the scale of one column: (det R_bb det P_bb)^(1 / df)."""
    lo = starts[f]
    hi = starts[f + 1]
    if hi == lo:
        return 1.0
    if hi - lo == 1:
        return P[columns[lo], columns[lo]]
    return (own[f] * determinant(P, columns[lo:hi], L)) ** (1.0 / (hi - lo))


@kernel
def downdate(P, k, alive, count, row):
    """The inverse of the block without column k: P - P[:, k] P[k, :] / P[k, k], on the upper triangle.

    P : float64 (q, q). Rows in alive[:count] are modified in place from the diagonal on; dead columns are written too, since
    contiguous lanes beat indexing.  row : float64 (q,), overwritten.
    """
    q = P.shape[0]
    for i in range(k):
        row[i] = P[i, k]
    for i in range(k, q):
        row[i] = P[k, i]
    pivot = 1.0 / row[k]
    for a in range(count):
        i = alive[a]
        f = row[i] * pivot
        if f == 0.0:
            continue
        line = P[i, i:]  # slices, so that no index can be negative and the loop runs in wide lanes
        tail = row[i:]
        for l in range(line.size):
            line[l] -= f * tail[l]


@kernel
def eliminate(P, starts, columns, own, removable, order_key, limit, tie, by_claim, went, value):
    """Drop the feature with the largest VIF, one at a time, until none removable is over the limit.

    P : float64 (q, q), inverse correlation of the columns. Overwritten.  starts, columns : int64, as in the layout.
    own : float64 (m,), det R_bb of each feature.  removable : bool (m,). Overwritten: False once gone.
    order_key : int64 (m,); among VIFs equal to a relative `tie` the larger key goes first; with `by_claim` among all over it.
    went : int64 (m,), value : float64 (m,). Filled; returns how many went.
    """
    m = starts.size - 1
    widest = 1
    for f in range(m):
        widest = max(widest, starts[f + 1] - starts[f])
    L = np.empty((widest, widest))
    alive = columns.copy()
    count = alive.size
    vif = np.empty(m)
    row = np.empty(P.shape[0])
    gone = 0
    while True:
        best = -1
        for f in range(m):
            if not removable[f]:
                continue
            vif[f] = inflation_of(P, f, starts, columns, own, L)
            if vif[f] <= limit:
                continue
            if best < 0:
                best = f
                continue
            if by_claim:
                if order_key[f] > order_key[best]:
                    best = f
                continue
            near = tie + ROUNDING * vif[best]  # the larger, the nearer to singular: rounding grows with it
            if vif[f] > vif[best] * (1.0 + near) or (vif[f] >= vif[best] * (1.0 - near) and order_key[f] > order_key[best]):
                best = f
        if best < 0:
            return gone
        went[gone] = best
        value[gone] = vif[best]
        gone += 1
        removable[best] = False
        for c in range(starts[best], starts[best + 1]):
            k = columns[c]
            left = 0
            for a in range(count):
                if alive[a] != k:
                    alive[left] = alive[a]
                    left += 1
            count = left
            downdate(P, k, alive, count, row)
