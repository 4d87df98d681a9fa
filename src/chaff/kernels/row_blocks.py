"""Blocks of rows, column by column: gather, shift, mark what is missing, and add up the complements.

What missing cells are expected to be, given the cells of their row that are there.
"""

from __future__ import annotations

import numba
import numpy as np

from chaff.kernels.jit import float_pointer, kernel


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


@kernel
def fill_column(values, rows, shift, root_weights, line):
    """Some rows of one column, shifted, times root weight, zero where missing; returns how many are missing.

    The columns lie contiguous already, so nothing is transposed: each is read and written in one run.

    values : float64 (n,), NaN where missing.  rows : int64 (b,).  root_weights : float64 (b,), or length 0 for all ones.
    line : float64 (>= b,). Modified in place.
    """
    holes = 0  # counted as whole numbers: a running sum of floats would make every step wait for the one before
    for i in range(rows.size):
        z = values[rows[i]] - shift
        line[i] = z
        holes += z != z
    if holes > 0:
        for i in range(rows.size):
            if line[i] != line[i]:
                line[i] = 0.0
    if root_weights.size > 0:
        for i in range(rows.size):
            line[i] *= root_weights[i]
    return holes


@kernel
def fill_columns(addresses, length, places, rows, shift, root_weights, out, holes):
    """`fill_column` for many columns at once.

    addresses : int64 (m,), of columns of `length` float64 each.  places : int64 (m,), line of `out` for each.
    shift : float64 (m,).  out : float64 (>= lines, >= b).  holes : int64 (m,), missing cells of each. Both modified in place.
    """
    for k in range(addresses.size):
        values = numba.carray(float_pointer(addresses[k]), length)
        holes[k] = fill_column(values, rows, shift[k], root_weights, out[places[k]])


@kernel
def fill_levels(codes, rows, root_weights, lines):
    """One 0/1 line a level: 1 (the root weight) in the line of the row's level, in the last one where it is missing.

    codes : float64 (n,), NaN where missing.  rows : int64 (b,).  root_weights : float64 (b,) or length 0.
    lines : float64 (levels, >= b). Modified in place.
    """
    for k in range(lines.shape[0]):
        line = lines[k]
        for i in range(rows.size):
            line[i] = 0.0
    last = lines.shape[0] - 1
    for i in range(rows.size):
        code = codes[rows[i]]
        k = last if code != code else int(code)
        lines[k, i] = root_weights[i] if root_weights.size > 0 else 1.0


@kernel
def mark_missing(values, rows, line):
    """line[i] = 1 where the column is missing in rows[i], else 0.  values : float64 (n,).  line : float64 (>= b,). In place."""
    for i in range(rows.size):
        v = values[rows[i]]
        line[i] = 1.0 if v != v else 0.0


@kernel
def add_complements(block, missing, root_weights, sums, squares, both):
    """Add each row with holes to the sums over 'rows where column g is missing'; linear in the missing cells.

    block : float64 (b, q), shifted, times root weight.  missing : float64 (b, g), 0 or 1.
    root_weights : float64 (b,) or length 0.  sums, squares : float64 (g, q).  both : float64 (g, g).
    sums, squares and both are modified in place.
    """
    b, q = block.shape
    g = missing.shape[1]
    weighted = root_weights.size > 0
    for i in range(b):
        w = root_weights[i] if weighted else 1.0
        for a in range(g):
            if missing[i, a] == 0.0:
                continue
            for c in range(g):
                if missing[i, c] != 0.0:
                    both[a, c] += w * w
            for l in range(q):
                z = block[i, l]
                sums[a, l] += w * z
                squares[a, l] += z * z
