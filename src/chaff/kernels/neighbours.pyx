"""Distances of one row to all others, column by column, for neighbour-based scores.

The sum over all pairs that distance covariance needs, in n log n.
"""

from libc.stdint cimport int64_t, uint8_t

cdef extern from *:
    """
    #if defined(__x86_64__) && defined(__GLIBC__) && (defined(__GNUC__) || defined(__clang__))
    #define FOR_WIDE_LANES __attribute__((target_clones("avx512f", "avx2", "default")))
    #else
    #define FOR_WIDE_LANES
    #endif
    """
    ctypedef void wide_void "FOR_WIDE_LANES void"

cdef enum:
    RUN = 16


def rising_products(double[::1] x, double[::1] y, double[::1] x_next, double[::1] y_next):
    """Σ over i < j with y_i <= y_j of (x_j - x_i)(y_j - y_i), by merging.

    x : float64 (n,), ascending.  y : float64 (n,), in the order of x.  x_next, y_next : float64 (n,), scratch.
    All four are overwritten.
    """
    cdef int64_t n, s, width, e, j, k, i, m, right
    cdef double total, xj, yj, count, sum_x, sum_y, sum_xy, took, left, xi, yi
    with nogil:
        n = x.shape[0]
        total = 0.0
        for s from 0 <= s < n by RUN:
            e = min(s + RUN, n)
            for j in range(s + 1, e):
                xj, yj = x[j], y[j]
                k = j
                # Sorted by y so far: those below come first, and are all earlier in x.
                for i in range(s, j):
                    if y[i] <= yj:
                        total += (xj - x[i]) * (yj - y[i])
                while k > s and y[k - 1] > yj:
                    x[k] = x[k - 1]
                    y[k] = y[k - 1]
                    k -= 1
                x[k] = xj
                y[k] = yj
        width = RUN
        while width < n:
            for s from 0 <= s < n by 2 * width:
                m = min(s + width, n)
                e = min(s + 2 * width, n)
                i, j, k = s, m, s
                count, sum_x, sum_y, sum_xy = 0.0, 0.0, 0.0, 0.0
                # No branch on the data: `right` is 1 where the right row comes next, and the left sums stand still.
                while i < m and j < e:
                    xi, yi, xj, yj = x[i], y[i], x[j], y[j]
                    right = 1 if yj < yi else 0
                    took = <double>right
                    left = 1.0 - took
                    total += took * (xj * (yj * count - sum_y) - yj * sum_x + sum_xy)
                    count += left
                    sum_x += left * xi
                    sum_y += left * yi
                    sum_xy += left * xi * yi
                    x_next[k] = xj if yj < yi else xi
                    y_next[k] = yj if yj < yi else yi
                    j += right
                    i += 1 - right
                    k += 1
                while i < m:
                    x_next[k] = x[i]
                    y_next[k] = y[i]
                    i += 1
                    k += 1
                # Here every row of the left run has been added: i == m or the right run is used up.
                while j < e:
                    total += x[j] * (y[j] * count - sum_y) - y[j] * sum_x + sum_xy
                    x_next[k] = x[j]
                    y_next[k] = y[j]
                    j += 1
                    k += 1
            x, x_next = x_next, x
            y, y_next = y_next, y
            width *= 2
    return total


cdef wide_void add_column(const double *own, double here, bint category, int64_t n, double *out) noexcept nogil:
    """The differences in one column."""
    cdef int64_t i
    cdef double d
    if category:
        for i in range(n):
            out[i] += 1.0 if own[i] != here else 0.0
    else:
        for i in range(n):
            d = abs(own[i] - here)
            out[i] += d if d < 1.0 else 1.0


def add_differences(const double[:, ::1] columns, const uint8_t[::1] category, int64_t row, double[::1] out):
    """out[i] += Σ over columns of the difference between row i and `row`: |a - b| cut at 1 for numbers, 0 or 1 for levels.

    columns : float64 (p, n), without NaN, numbers scaled to their range.  category : bool (p,).  out : float64 (n,).
    out is modified in place.
    """
    cdef int64_t j
    with nogil:
        for j in range(columns.shape[0]):
            add_column(&columns[j, 0], columns[j, row], category[j], columns.shape[1], &out[0])


def add_weighted_differences(
    const double[:, ::1] columns, const uint8_t[::1] category, int64_t row, const int64_t[::1] others, const double[:, ::1] weights,
    double[:, ::1] out
):
    """out[j] += Σ over the others of weight times the difference of column j between them and `row`.

    columns : float64 (p, n).  category : bool (p,).  others : int64 (k,).  weights : float64 (k, t).
    out : float64 (p, t). Modified in place.
    """
    cdef int64_t j, k, t
    cdef double here, v, d
    cdef const double *own
    with nogil:
        for j in range(columns.shape[0]):
            own = &columns[j, 0]
            here = own[row]
            for k in range(others.shape[0]):
                v = own[others[k]]
                d = (1.0 if v != here else 0.0) if category[j] else min(abs(v - here), 1.0)
                for t in range(weights.shape[1]):
                    out[j, t] += weights[k, t] * d
