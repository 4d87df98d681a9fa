"""Walks along a sorted column: ranks, rank sums by class, pairs out of order."""

import numpy as np

from libc.stdint cimport int32_t, int64_t
from libc.stdlib cimport qsort

cdef enum:
    RUN = 8  # runs of this length are sorted by insertion before merging begins


def ranks_from_order(const double[:] values, const int64_t[::1] order, double[::1] ranks, int32_t[::1] dense):
    """Average ranks 1..n and dense ranks 0, 1, … of the values, ties sharing both.

    values : float64 (n,), without NaN.  order : int64 (n,) that sorts them.  ranks : float64 (n,).  dense : int32 (n,).
    ranks and dense are modified in place. Returns (Σ t(t-1), Σ t(t-1)(t-2)) over the groups of t tied values.
    """
    cdef int64_t n, i, group, j, k
    cdef double twos, threes, v, middle, t
    with nogil:
        n = values.shape[0]
        twos, threes = 0.0, 0.0
        i = 0
        group = 0
        while i < n:
            j = i
            v = values[order[i]]
            while j + 1 < n and values[order[j + 1]] == v:
                j += 1
            middle = 0.5 * (i + j) + 1.0
            for k in range(i, j + 1):
                ranks[order[k]] = middle
                dense[order[k]] = group
            t = <double>(j - i + 1)
            twos += t * (t - 1.0)
            threes += t * (t - 1.0) * (t - 2.0)
            group += 1
            i = j + 1
    return twos, threes


def class_walk(
    const double[::1] values, const int64_t[::1] order, const int64_t[::1] classes, const double[::1] weights, double[::1] below,
    double[::1] tied, double[:, ::1] out
):
    """One walk up a sorted column: what rank tests between classes need.

    values : float64 (n,), without NaN.  order : int64 (n,).  classes : int64 (n,), 0..K-1.
    weights : float64 (n,), or length 0.  below, tied : float64 (K,), scratch.
    out : float64 (K, 5), modified in place: weight; rank sum; Σ of the weight of other classes below (ties half); Σ of
    its square; Σ over the rows of other classes of (weight of this class below, ties half) squared.
    Returns (Σ t(t-1), Σ t(t-1)(t-2), largest gap between the distribution functions of the first two classes).
    """
    cdef bint weighted
    cdef int64_t i, n, K, j, k
    cdef double total0, total1, w, beneath, twos, threes, widest, v, here, middle, t, lower, gap, others
    with nogil:
        n, K = values.shape[0], below.shape[0]
        weighted = weights.shape[0] > 0
        below[:] = 0.0
        total0, total1 = 0.0, 0.0
        for i in range(n):
            w = weights[i] if weighted else 1.0
            out[classes[i], 0] += w
        total0 = out[0, 0]
        total1 = out[1, 0] if K > 1 else 0.0
        beneath, twos, threes, widest = 0.0, 0.0, 0.0, 0.0
        i = 0
        while i < n:
            j = i
            v = values[order[i]]
            while j + 1 < n and values[order[j + 1]] == v:
                j += 1
            tied[:] = 0.0
            here = 0.0
            for k in range(i, j + 1):
                w = weights[order[k]] if weighted else 1.0
                tied[classes[order[k]]] += w
                here += w
            middle = beneath + 0.5 * (here + 1.0)
            for k in range(K):
                lower = below[k] + 0.5 * tied[k]
                if tied[k] > 0.0:
                    others = beneath + 0.5 * here - lower
                    out[k, 1] += tied[k] * middle
                    out[k, 2] += tied[k] * others
                    out[k, 3] += tied[k] * others * others
                out[k, 4] += (here - tied[k]) * lower * lower
            for k in range(K):
                below[k] += tied[k]
            beneath += here
            t = <double>(j - i + 1)
            twos += t * (t - 1.0)
            threes += t * (t - 1.0) * (t - 2.0)
            if total0 > 0.0 and total1 > 0.0:
                gap = abs(below[0] / total0 - below[1] / total1)
                if gap > widest:
                    widest = gap
            i = j + 1
    return twos, threes, widest


def in_order_of(const double[:] values, const int64_t[::1] order, const int32_t[::1] dense, int32_t[::1] out):
    """out = the other column's dense ranks in the order of `values`, ascending within ties.

    Returns (Σ t(t-1) over joint ties, Σ t(t-1) over ties of `values`, Σ t(t-1)(t-2) of those).
    values : float64 (n,).  order : int64 (n,) sorting them.  dense : int32 (n,).  out : int32 (n,). Modified in place.
    """
    cdef int64_t n, i, j, s, e
    cdef double joint, twos, threes, v, t
    with nogil:
        n = values.shape[0]
        joint, twos, threes = 0.0, 0.0, 0.0
        for i in range(n):
            out[i] = dense[order[i]]
        i = 0
        while i < n:
            j = i
            v = values[order[i]]
            while j + 1 < n and values[order[j + 1]] == v:
                j += 1
            if j > i:
                t = <double>(j - i + 1)
                twos += t * (t - 1.0)
                threes += t * (t - 1.0) * (t - 2.0)
                sort_ints(&out[i], j - i + 1)
                s = i
                while s <= j:
                    e = s
                    while e + 1 <= j and out[e + 1] == out[s]:
                        e += 1
                    t = <double>(e - s + 1)
                    joint += t * (t - 1.0)
                    s = e + 1
            i = j + 1
    return joint, twos, threes


def inversions(int32_t[::1] a, int32_t[::1] b):
    """Pairs of `a` that stand in falling order, by merging; n log n.

    a, b : int32 (n,). Both are overwritten.
    """
    cdef int64_t n, count, s, width, e, i, k, m, j, right
    cdef int32_t v, x, y
    with nogil:
        n = a.shape[0]
        count = 0
        for s from 0 <= s < n by RUN:
            e = min(s + RUN, n)
            for i in range(s + 1, e):
                v = a[i]
                k = i
                while k > s and a[k - 1] > v:
                    a[k] = a[k - 1]
                    k -= 1
                a[k] = v
                count += i - k
        width = RUN
        while width < n:
            for s from 0 <= s < n by 2 * width:
                m = min(s + width, n)
                e = min(s + 2 * width, n)
                i, j, k = s, m, s
                # No branch on the data: which side comes next cannot be guessed, and a wrong guess costs more than the adds.
                while i < m and j < e:
                    x, y = a[i], a[j]
                    right = 1 if y < x else 0
                    b[k] = y if y < x else x
                    count += right * (m - i)
                    j += right
                    i += 1 - right
                    k += 1
                while i < m:
                    b[k] = a[i]
                    i += 1
                    k += 1
                while j < e:
                    b[k] = a[j]
                    j += 1
                    k += 1
            a, b = b, a
            width *= 2
    return count


def concordance(const int64_t[::1] order, const int32_t[::1] dense_x, const int32_t[::1] dense_y, int64_t levels, double[::1] out):
    """out[i] = pairs that row i forms in order less those out of order, ties of either column left out; n log n.

    order : int64 (n,), sorts x.  dense_x, dense_y : int32 (n,), 0, 1, …, ties sharing one.  levels : values of y.
    out : float64 (n,). Modified in place.  A tree of running counts over the ranks of y (Fenwick, 1994).
    """
    cdef int64_t n, i, k, j, seen, below, upto, place, higher, lower
    cdef int64_t[::1] totals = np.zeros(levels + 1, np.int64), tree = np.zeros(levels + 1, np.int64)
    cdef int32_t y
    with nogil:
        n = order.shape[0]
        for i in range(n):
            totals[dense_y[i] + 1] += 1
        for k in range(levels):
            totals[k + 1] += totals[k]  # rows with a smaller y: totals[y]; no larger: totals[y + 1]
        i = 0
        while i < n:
            j = i
            while j + 1 < n and dense_x[order[j + 1]] == dense_x[order[i]]:
                j += 1
            # Rows of smaller x are in the tree; what is not there has x no smaller.
            for k in range(i, j + 1):
                y = dense_y[order[k]]
                below = _upto(&tree[0], y)
                upto = _upto(&tree[0], y + 1)
                out[order[k]] = below - (i - upto)  # smaller x: smaller y is in order, larger y is not
            for k in range(i, j + 1):
                place = dense_y[order[k]] + 1
                while place <= levels:
                    tree[place] += 1
                    place += place & (-place)
            seen = j + 1
            for k in range(i, j + 1):
                y = dense_y[order[k]]
                below = _upto(&tree[0], y)
                upto = _upto(&tree[0], y + 1)
                higher = (n - totals[y + 1]) - (seen - upto)
                lower = totals[y] - below
                out[order[k]] += higher - lower
            i = j + 1


cdef int ascending(const void *a, const void *b) noexcept nogil:
    cdef int32_t x = (<const int32_t *>a)[0], y = (<const int32_t *>b)[0]
    return (x > y) - (x < y)


cdef void sort_ints(int32_t *values, int64_t count) noexcept nogil:
    """In place; a few by insertion."""
    cdef int64_t i, k
    cdef int32_t v
    if count > 16:
        qsort(values, count, sizeof(int32_t), &ascending)
        return
    for i in range(1, count):
        v = values[i]
        k = i
        while k > 0 and values[k - 1] > v:
            values[k] = values[k - 1]
            k -= 1
        values[k] = v


cdef inline int64_t _upto(const int64_t *tree, int64_t k) noexcept nogil:
    cdef int64_t total
    total = 0
    while k > 0:
        total += tree[k]
        k -= k & (-k)
    return total
