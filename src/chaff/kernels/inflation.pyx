"""Variance inflation from an inverse correlation matrix, and its update when a feature goes.

Cross-validated least squares by sweeping: what every single addition or removal would score, and doing one.
"""

import numpy as np

from libc.math cimport NAN, sqrt
from libc.stdint cimport int64_t, uint8_t


cdef int64_t widest_of(const int64_t[::1] starts) noexcept nogil:
    """Columns of the widest feature, 1 at the least."""
    cdef int64_t f, widest = 1
    for f in range(starts.shape[0] - 1):
        widest = max(widest, starts[f + 1] - starts[f])
    return widest


def toggle(double[:, ::1] A, double[:, ::1] V, int64_t k, double[:, ::1] scratch):
    """Sweep one fold's tables on column k, in or out alike. Both are symmetric and only their upper triangles are used.

    A, V : float64 (q, q). Upper triangles modified in place.  scratch : float64 (3, q). Overwritten.
    """
    cdef int64_t q, i, j
    cdef double[::1] a, c, v
    cdef double d, s, vkk, f, g, x, t
    cdef double *lineA
    cdef double *lineV
    cdef double *ta
    cdef double *tv
    cdef double *tc
    with nogil:
        q = A.shape[0]
        a = scratch[0]
        c = scratch[1]
        v = scratch[2]
        for i in range(k):
            a[i] = A[i, k]
            v[i] = V[i, k]
        for i in range(k, q):
            a[i] = A[k, i]
            v[i] = V[k, i]
        d = a[k]
        s = 1.0 if d > 0 else -1.0
        for i in range(q):
            c[i] = a[i] / d
        vkk = v[k]
        for i in range(q):
            f = c[i]
            if i == k:  # f = 0 is no reason to pass over: V still changes by g
                continue
            g = v[i] - f * vkk
            lineA = &A[i, i]
            lineV = &V[i, i]
            ta = &a[i]
            tv = &v[i]
            tc = &c[i]
            for j in range(q - i):
                lineA[j] -= f * ta[j]
                lineV[j] -= f * tv[j] + g * tc[j]
        for i in range(q):
            x = s * c[i]
            t = s * (v[i] - c[i] * vkk) / d
            if i < k:
                A[i, k] = x
                V[i, k] = t
            elif i > k:
                A[k, i] = x
                V[k, i] = t
        A[k, k] = -1.0 / d
        V[k, k] = vkk / (d * d)


cdef inline double block_error(
    const double[:, ::1] A, const double[:, ::1] V, const int64_t[::1] columns, const double *base, bint inside, double tolerance,
    int64_t first_target, double[:, ::1] L, double *c
) noexcept nogil:
    """Test error, summed over targets, after toggling the block `columns` in one fold; NaN when it would be singular.

    A, V : float64 (q, q), upper triangles.  columns : int64 (b,), ascending.  base : float64 (q,), the diagonal of A before any sweep.
    L : float64 (>= b, >= b) and c : float64 (>= b,), overwritten.
    """
    cdef int64_t b, q, i, t, j, l
    cdef double sign, total, e, x
    b = columns.shape[0]
    q = A.shape[0]
    sign = -1.0 if inside else 1.0
    for i in range(b):
        for j in range(i + 1):
            x = sign * A[columns[j], columns[i]]
            for l in range(j):
                x -= L[i, l] * L[j, l]
            if i == j:
                if not inside and x <= tolerance * base[columns[i]]:
                    return NAN
                L[i, i] = sqrt(x)
            else:
                L[i, j] = x / L[j, j]
    total = 0.0
    for t in range(first_target, q):
        for i in range(b):
            x = sign * A[columns[i], t]
            for l in range(i):
                x -= L[i, l] * c[l]
            c[i] = x / L[i, i]
        for i in range(b - 1, -1, -1):
            x = c[i]
            for l in range(i + 1, b):
                x -= L[l, i] * c[l]
            c[i] = x / L[i, i]
        e = V[t, t]
        for i in range(b):
            e -= 2.0 * c[i] * V[columns[i], t]
            e += c[i] * c[i] * V[columns[i], columns[i]]
            for j in range(i + 1, b):
                e += 2.0 * c[i] * c[j] * V[columns[i], columns[j]]
        total += e
    return total


def errors_after_toggle(
    const double[:, ::1] A, const double[:, ::1] V, const double[::1] base, const int64_t[::1] starts, const int64_t[::1] columns,
    const int64_t[::1] offered, const uint8_t[::1] inside, double tolerance, int64_t first_target, double[::1] out
):
    """Test error after toggling each offered feature, for one fold.

    A, V : float64 (q, q).  base : float64 (q,).  starts : int64 (m + 1,), slices into `columns` per feature; an empty
    slice is a feature that can contribute nothing in this fold.  columns : int64.  offered : int64, feature numbers.
    inside : bool (m,).  out : float64 (len(offered),), NaN where the set would be singular. Modified in place.
    """
    cdef int64_t q, t, o, f, lo, hi, j
    cdef int64_t width = widest_of(starts)
    cdef double[:, ::1] L = np.empty((width, width))
    cdef double[::1] c = np.empty(width)
    cdef double now, d, e, x
    with nogil:
        q = A.shape[0]
        now = 0.0
        for t in range(first_target, q):
            now += V[t, t]
        for o in range(offered.shape[0]):
            f = offered[o]
            lo = starts[f]
            hi = starts[f + 1]
            if hi == lo:
                out[o] = now
            elif hi - lo == 1:
                j = columns[lo]
                d = A[j, j]
                if not inside[f] and d <= tolerance * base[j]:
                    out[o] = NAN
                    continue
                e = 0.0
                for t in range(first_target, q):
                    x = A[j, t] / d
                    e += V[t, t] - 2.0 * x * V[j, t] + x * x * V[j, j]
                out[o] = e
            else:
                out[o] = block_error(A, V, columns[lo:hi], &base[0], inside[f], tolerance, first_target, L, &c[0])

cdef double ROUNDING = 1e-13


cdef inline double determinant(const double[:, ::1] M, const int64_t[::1] columns, double[:, ::1] L) noexcept nogil:
    """Determinant of the positive definite block M[columns, columns], columns ascending; 0 when it is not. Only the upper
    triangle of M is read.  L is overwritten."""
    cdef int64_t b, i, j, l
    cdef double det, x
    b = columns.shape[0]
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
                L[i, i] = sqrt(x)
            else:
                L[i, j] = x / L[j, j]
    return det


cdef double _inflation_of(
    const double[:, ::1] P, int64_t f, const int64_t[::1] starts, const int64_t[::1] columns, const double[::1] own, double[:, ::1] L
) noexcept nogil:
    cdef int64_t lo, hi
    lo = starts[f]
    hi = starts[f + 1]
    if hi == lo:
        return 1.0
    if hi - lo == 1:
        return P[columns[lo], columns[lo]]
    return (own[f] * determinant(P, columns[lo:hi], L)) ** (1.0 / (hi - lo))


def inflation_of(
    const double[:, ::1] P, int64_t f, const int64_t[::1] starts, const int64_t[::1] columns, const double[::1] own, double[:, ::1] L
):
    """(Generalised) VIF of feature f on the scale of one column: (det R_bb det P_bb)^(1 / df)."""
    cdef double result
    with nogil:
        result = _inflation_of(P, f, starts, columns, own, L)
    return result


cdef inline void downdate(double[:, ::1] P, int64_t k, const int64_t *alive, int64_t count, double[::1] row) noexcept nogil:
    """The inverse of the block without column k: P - P[:, k] P[k, :] / P[k, k], on the upper triangle.

    P : float64 (q, q). Rows in alive[:count] are modified in place from the diagonal on; dead columns are written too, since
    contiguous lanes beat indexing.  row : float64 (q,), overwritten.
    """
    cdef int64_t q, i, a, l
    cdef double pivot, f
    cdef double *line
    cdef double *tail
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
        line = &P[i, i]
        tail = &row[i]
        for l in range(q - i):
            line[l] -= f * tail[l]


cdef int64_t _eliminate(
    double[:, ::1] P, const int64_t[::1] starts, const int64_t[::1] columns, const double[::1] own, uint8_t[::1] removable,
    const int64_t[::1] order_key, double limit, double tie, bint by_claim, int64_t[::1] went, double[::1] value,
    double[:, ::1] L, int64_t[::1] alive, double[::1] vif, double[::1] row
) noexcept nogil:
    cdef int64_t m, f, count, gone, best, c, k, left, a
    cdef double near
    m = starts.shape[0] - 1
    count = alive.shape[0]
    gone = 0
    while True:
        best = -1
        for f in range(m):
            if not removable[f]:
                continue
            vif[f] = _inflation_of(P, f, starts, columns, own, L)
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
            downdate(P, k, &alive[0], count, row)


def eliminate(
    double[:, ::1] P, const int64_t[::1] starts, const int64_t[::1] columns, const double[::1] own, uint8_t[::1] removable,
    const int64_t[::1] order_key, double limit, double tie, bint by_claim, int64_t[::1] went, double[::1] value
):
    """Drop the feature with the largest VIF, one at a time, until none removable is over the limit.

    P : float64 (q, q), inverse correlation of the columns. Overwritten.  starts, columns : int64, as in the layout.
    own : float64 (m,), det R_bb of each feature.  removable : bool (m,). Overwritten: False once gone.
    order_key : int64 (m,); among VIFs equal to a relative `tie` the larger key goes first; with `by_claim` among all over it.
    went : int64 (m,), value : float64 (m,). Filled; returns how many went.
    """
    cdef int64_t result, width = widest_of(starts)
    cdef double[:, ::1] L = np.empty((width, width))
    cdef int64_t[::1] alive = np.array(columns, np.int64)
    cdef double[::1] vif = np.empty(starts.shape[0] - 1), row = np.empty(P.shape[0])
    with nogil:
        result = _eliminate(P, starts, columns, own, removable, order_key, limit, tie, by_claim, went, value, L, alive, vif, row)
    return result
