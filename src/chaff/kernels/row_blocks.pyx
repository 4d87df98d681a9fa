"""Blocks of rows, column by column: gather, shift, mark what is missing, and add up the complements.

What missing cells are expected to be, given the cells of their row that are there.
"""

import numpy as np

from libc.math cimport sqrt
from libc.stdint cimport intptr_t, intptr_t, int64_t


def expect_missing(
    double[:, :] D, const int64_t[:] missing, const int64_t[::1] starts, const double[:, ::1] K, const double[::1] weights,
    double[:, ::1] corrections
):
    """Fill the missing cells of each row with their conditional means under a normal distribution.

    D : float64 (n, q), deviations from the means; what stands in missing cells is overwritten.
    missing : int64, the missing columns of row i are missing[starts[i]:starts[i + 1]].  starts : int64 (n + 1,).
    K : float64 (q, q), inverse covariance.  weights : float64 (n,).
    corrections : float64 (q, q), zero. The weighted conditional covariances of the missing cells are added.
    """
    cdef int64_t widest = max(1, max(np.diff(starts), default=1)), i, m, a, c, b, j, l
    cdef double[:, ::1] L = np.empty((widest, widest))
    cdef double[::1] x = np.empty(widest)
    cdef const int64_t[:] gone
    cdef double[:] row
    cdef double s
    cdef const double *line
    with nogil:
        for i in range(starts.shape[0] - 1):
            gone = missing[starts[i] : starts[i + 1]]
            m = gone.shape[0]
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
                        L[a, a] = sqrt(max(s, 1e-300))
                    else:
                        L[a, b] = s / L[b, b]
            for a in range(m):
                line = &K[gone[a], 0]
                s = 0.0
                for j in range(row.shape[0]):
                    s -= line[j] * row[j]
                x[a] = s
            solve(L, &x[0], m)
            for a in range(m):
                row[gone[a]] = x[a]
            for c in range(m):
                for a in range(m):
                    x[a] = 1.0 if a == c else 0.0
                solve(L, &x[0], m)
                for a in range(m):
                    corrections[gone[a], gone[c]] += weights[i] * x[a]


cdef inline void solve(const double[:, ::1] L, double *x, int64_t m) noexcept nogil:
    """x ← (L Lᵀ)⁻¹ x for the leading m rows."""
    cdef int64_t a, l
    cdef double s
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


cdef inline int64_t fill_column(
    const double *values, const int64_t[::1] rows, double shift, const double[::1] root_weights, double *line
) noexcept nogil:
    """Some rows of one column, shifted, times root weight, zero where missing; returns how many are missing.

    The columns lie contiguous already, so nothing is transposed: each is read and written in one run.

    values : float64 (n,), NaN where missing.  rows : int64 (b,).  root_weights : float64 (b,), or length 0 for all ones.
    line : float64 (>= b,). Modified in place.
    """
    cdef int64_t holes, i
    cdef double z
    holes = 0  # counted as whole numbers: a running sum of floats would make every step wait for the one before
    for i in range(rows.shape[0]):
        z = values[rows[i]] - shift
        line[i] = z
        holes += z != z
    if holes > 0:
        for i in range(rows.shape[0]):
            if line[i] != line[i]:
                line[i] = 0.0
    if root_weights.shape[0] > 0:
        for i in range(rows.shape[0]):
            line[i] *= root_weights[i]
    return holes


def fill_columns(
    const int64_t[::1] addresses, int64_t length, const int64_t[::1] places, const int64_t[::1] rows, const double[::1] shift,
    const double[::1] root_weights, double[:, ::1] out, int64_t[::1] holes
):
    """`fill_column` for many columns at once.

    addresses : int64 (m,), of columns of `length` float64 each.  places : int64 (m,), line of `out` for each.
    shift : float64 (m,).  out : float64 (>= lines, >= b).  holes : int64 (m,), missing cells of each. Both modified in place.
    """
    cdef int64_t k
    with nogil:
        for k in range(addresses.shape[0]):
            holes[k] = fill_column(<const double *><intptr_t>addresses[k], rows, shift[k], root_weights, &out[places[k], 0])


def fill_levels(const double[::1] codes, const int64_t[::1] rows, const double[::1] root_weights, double[:, ::1] lines):
    """One 0/1 line a level: 1 (the root weight) in the line of the row's level, in the last one where it is missing.

    codes : float64 (n,), NaN where missing.  rows : int64 (b,).  root_weights : float64 (b,) or length 0.
    lines : float64 (levels, >= b). Modified in place.
    """
    cdef int64_t k, last, i
    cdef double code
    cdef double *line
    with nogil:
        for k in range(lines.shape[0]):
            line = &lines[k, 0]
            for i in range(rows.shape[0]):
                line[i] = 0.0
        last = lines.shape[0] - 1
        for i in range(rows.shape[0]):
            code = codes[rows[i]]
            k = last if code != code else <int64_t>code
            lines[k, i] = root_weights[i] if root_weights.shape[0] > 0 else 1.0


def mark_missing(const double[::1] values, const int64_t[::1] rows, double[::1] line):
    """line[i] = 1 where the column is missing in rows[i], else 0.  values : float64 (n,).  line : float64 (>= b,). In place."""
    cdef int64_t i
    cdef double v
    with nogil:
        for i in range(rows.shape[0]):
            v = values[rows[i]]
            line[i] = 1.0 if v != v else 0.0


def add_complements(
    const double[:, ::1] block, const double[:, ::1] missing, const double[::1] root_weights, double[:, ::1] sums,
    double[:, ::1] squares, double[:, ::1] both
):
    """Add each row with holes to the sums over 'rows where column g is missing'; linear in the missing cells.

    block : float64 (b, q), shifted, times root weight.  missing : float64 (b, g), 0 or 1.
    root_weights : float64 (b,) or length 0.  sums, squares : float64 (g, q).  both : float64 (g, g).
    sums, squares and both are modified in place.
    """
    cdef int64_t g, i, b, q, a, c, l
    cdef bint weighted
    cdef double w, z
    with nogil:
        b, q = block.shape[0], block.shape[1]
        g = missing.shape[1]
        weighted = root_weights.shape[0] > 0
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
