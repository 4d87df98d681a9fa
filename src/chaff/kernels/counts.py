"""Counting on bytes: two-way tables of binned columns against a binned target, one pass per column."""

from __future__ import annotations

from chaff.kernels.jit import kernel


@kernel
def two_way_counts(codes, target, weights, out):
    """out[f, b, t] += weight of the rows with code b of feature f and code t of the target.

    codes : uint8 (p, n), one contiguous row a feature.  target : int64 (n,), 0..classes-1.
    weights : float64 (n,), or length 0 for all ones.  out : float64 (p, 256, classes). Modified in place.
    """
    p, n = codes.shape
    weighted = weights.size > 0
    for f in range(p):
        for i in range(n):
            out[f, codes[f, i], target[i]] += weights[i] if weighted else 1.0


@kernel
def sums_by_code(codes, values, weights, out):
    """out[f, b] += (weight, weight * value...) of the rows with code b of feature f.

    codes : uint8 (p, n).  values : float64 (n, t).  weights : float64 (n,), or length 0.
    out : float64 (p, 256, 1 + t). Modified in place.
    """
    p, n = codes.shape
    t = values.shape[1]
    weighted = weights.size > 0
    for f in range(p):
        for i in range(n):
            w = weights[i] if weighted else 1.0
            b = codes[f, i]
            out[f, b, 0] += w
            for k in range(t):
                out[f, b, 1 + k] += w * values[i, k]
