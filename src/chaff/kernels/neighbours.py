"""Distances of one row to all others, column by column, for neighbour-based scores."""

from __future__ import annotations

from chaff.kernels.jit import kernel


@kernel
def add_differences(columns, category, row, out):
    """out[i] += Σ over columns of the difference between row i and `row`: |a - b| cut at 1 for numbers, 0 or 1 for levels.

    columns : float64 (p, n), without NaN, numbers scaled to their range.  category : bool (p,).  out : float64 (n,).
    out is modified in place.
    """
    p, n = columns.shape
    for j in range(p):
        own = columns[j]
        here = own[row]
        if category[j]:
            for i in range(n):
                out[i] += 1.0 if own[i] != here else 0.0
        else:
            for i in range(n):
                out[i] += min(abs(own[i] - here), 1.0)


@kernel
def add_weighted_differences(columns, category, row, others, weights, out):
    """out[j] += Σ over the others of weight times the difference of column j between them and `row`.

    columns : float64 (p, n).  category : bool (p,).  others : int64 (k,).  weights : float64 (k, t).
    out : float64 (p, t). Modified in place.
    """
    for j in range(columns.shape[0]):
        own = columns[j]
        here = own[row]
        for k in range(others.size):
            v = own[others[k]]
            d = (1.0 if v != here else 0.0) if category[j] else min(abs(v - here), 1.0)
            for t in range(weights.shape[1]):
                out[j, t] += weights[k, t] * d
