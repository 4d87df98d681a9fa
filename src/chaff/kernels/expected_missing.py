"""What missing cells are expected to be, given the cells of their row that are there."""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel


@kernel
def expect_missing(D, missing, starts, K, weights, corrections):
    """Fill the missing cells of each row with their conditional means under a normal distribution.

    D : float64 (n, q), deviations from the means; what stands in missing cells is overwritten.
    missing : int64, the missing columns of row i are missing[starts[i]:starts[i + 1]].  starts : int64 (n + 1,).
    K : float64 (q, q), inverse covariance.  weights : float64 (n,).
    corrections : float64 (q, q), zero. The weighted conditional covariances of the missing cells are added.
    """
    widest = 0
    for i in range(starts.size - 1):
        widest = max(widest, starts[i + 1] - starts[i])
    L = np.empty((widest, widest))
    x = np.empty(widest)
    for i in range(starts.size - 1):
        gone = missing[starts[i] : starts[i + 1]]
        m = gone.size
        if m == 0:
            continue
        row = D[i]
        for a in range(m):
            row[gone[a]] = 0.0
        for a in range(m):  # Cholesky of the missing block
            for b in range(a + 1):
                s = K[gone[a], gone[b]]
                for l in range(b):
                    s -= L[a, l] * L[b, l]
                if a == b:
                    L[a, a] = np.sqrt(max(s, 1e-300))
                else:
                    L[a, b] = s / L[b, b]
        for a in range(m):
            line = K[gone[a]]
            s = 0.0
            for j in range(row.size):
                s -= line[j] * row[j]
            x[a] = s
        solve(L, x, m)
        for a in range(m):
            row[gone[a]] = x[a]
        for c in range(m):
            for a in range(m):
                x[a] = 1.0 if a == c else 0.0
            solve(L, x, m)
            for a in range(m):
                corrections[gone[a], gone[c]] += weights[i] * x[a]


@kernel
def solve(L, x, m):
    """x ← (L Lᵀ)⁻¹ x for the leading m rows."""
    for a in range(m):
        s = x[a]
        for l in range(a):
            s -= L[a, l] * x[l]
        x[a] = s / L[a, a]
    for a in range(m - 1, -1, -1):
        s = x[a]
        for l in range(a + 1, m):
            s -= L[l, a] * x[l]
        x[a] = s / L[a, a]
