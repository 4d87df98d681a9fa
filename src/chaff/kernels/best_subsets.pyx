"""Best sets of each size by branch and bound on training error, in the inverse form: a set is left one feature at a time.

A node is a set of which the first features are fixed and the rest may be dropped. Its children each drop one droppable feature, and
fix those before it. A set's error is a bound for everything below it. What makes it quick: the droppable features stand in the order
of what dropping them costs, dearest first, so that the largest subtrees have the worst bounds; a node carries only the rows of the
inverse that may still be dropped; and what every child would cost is known before its table is made. Source: leaps and bounds,
Furnival and Wilson, 1974; order within the tree: Gatu and Kontoghiorghes, 2006.
"""

import numpy as np

from libc.math cimport INFINITY
from libc.stdint cimport int64_t, uint64_t


cdef inline double group_rise(
    const double[:, ::1] W, const double[:, ::1] B, int64_t first, int64_t width, int64_t targets, double[:, ::1] scratch
) noexcept nogil:
    """What dropping one feature of `width` columns from `first` on adds to the error.

    W : float64 (q, q), inverse of the cross-products;  B : float64 (q, targets), coefficients. Not modified.
    scratch : float64 (>= width, >= width + targets), overwritten.
    """
    cdef int64_t i, k, t, j
    cdef double total, d, f
    if width == 1:
        total = 0.0
        for t in range(targets):
            total += B[first, t] * B[first, t]
        return total / W[first, first]
    for i in range(width):
        for j in range(width):
            scratch[i, j] = W[first + i, first + j]
        for t in range(targets):
            scratch[i, width + t] = B[first + i, t]
    total = 0.0
    for k in range(width):
        d = scratch[k, k]
        for t in range(targets):
            total += scratch[k, width + t] ** 2 / d
        for i in range(k + 1, width):
            f = scratch[i, k] / d
            for j in range(k + 1, width + targets):
                scratch[i, j] -= f * scratch[k, j]
    return total


cdef void _note_set(int64_t size, double rss, uint64_t mask, double[:, ::1] best_rss, uint64_t[:, ::1] best_mask) noexcept nogil:
    cdef int64_t m, k
    m = best_rss.shape[1]
    if rss >= best_rss[size, m - 1]:
        return
    for k in range(m):
        if best_mask[size, k] == mask and best_rss[size, k] < INFINITY:
            return
    k = m - 1
    while k > 0 and best_rss[size, k - 1] > rss:
        best_rss[size, k] = best_rss[size, k - 1]
        best_mask[size, k] = best_mask[size, k - 1]
        k -= 1
    best_rss[size, k] = rss
    best_mask[size, k] = mask


def note_set(int64_t size, double rss, uint64_t mask, double[:, ::1] best_rss, uint64_t[:, ::1] best_mask):
    """Put a set among the best of its size, if it is one. best_rss : float64 (sizes, m), ascending;  best_mask : uint64."""
    with nogil:
        _note_set(size, rss, mask, best_rss, best_mask)


cdef inline bint promising(
    double rss, const double *rise, int64_t count, int64_t fixed, int64_t smallest, int64_t largest, const double[:, ::1] best_rss
) noexcept nogil:
    """Whether some size below a node could still hold a better set than is known: to come down to a size, so many of the droppable
    features have to go, and the dearest of them costs at least as much as the so-many-th cheapest.

    rise : float64 (count,), descending: what dropping each costs by itself.
    """
    cdef int64_t m, gone, size
    m = best_rss.shape[1] - 1
    for gone in range(1, count + 1):
        size = fixed + count - gone
        if size < smallest:
            break
        if size <= largest and rss + rise[count - gone] < best_rss[size, m]:
            return True
    return False


cdef inline int64_t drop_one(
    const double[:, ::1] W, const double[:, ::1] B, const int64_t *begin, const int64_t *widths, const int64_t *features, int64_t at,
    int64_t count, int64_t targets, double[:, ::1] work, double[:, ::1] work_b
) noexcept nogil:
    """Tables after dropping the feature at place `at`, of those behind it only, into work (q', q') and work_b (q', targets)."""
    cdef int64_t first, width, start, end, q, w, i, k, j, t
    cdef double d, f
    first = begin[at]
    width = widths[features[at]]
    start = begin[at + 1] if at + 1 < count else first + width
    end = begin[count - 1] + widths[features[count - 1]]
    q = end - start
    if width == 1:
        d = W[first, first]
        for i in range(q):
            f = W[start + i, first] / d
            for j in range(q):
                work[i, j] = W[start + i, start + j] - f * W[first, start + j]
            for t in range(targets):
                work_b[i, t] = B[start + i, t] - f * B[first, t]
        return q
    w = width
    for i in range(w + q):  # the feature's own columns first, then they are eliminated one by one
        for j in range(w + q):
            work[i, j] = W[first + i, first + j]
        for t in range(targets):
            work_b[i, t] = B[first + i, t]
    for k in range(w):
        d = work[k, k]
        for i in range(k + 1, w + q):
            f = work[i, k] / d
            for j in range(k + 1, w + q):
                work[i, j] -= f * work[k, j]
            for t in range(targets):
                work_b[i, t] -= f * work_b[k, t]
    for i in range(q):
        for j in range(q):
            work[i, j] = work[w + i, w + j]
        for t in range(targets):
            work_b[i, t] = work_b[w + i, t]
    return q


cdef void _settle(
    int64_t[::1] begin, int64_t[::1] features, double[::1] rise, const double[:, ::1] work, const double[:, ::1] work_b, int64_t q,
    const int64_t[::1] names, int64_t count, const int64_t[::1] widths, int64_t targets, double[:, ::1] scratch
) noexcept nogil:
    cdef int64_t place, i, k
    cdef double x
    place = 0
    for i in range(count):
        x = group_rise(work, work_b, place, widths[names[i]], targets, scratch)
        k = i
        while k > 0 and rise[k - 1] < x:
            rise[k] = rise[k - 1]
            features[k] = features[k - 1]
            begin[k] = begin[k - 1]
            k -= 1
        rise[k] = x
        features[k] = names[i]
        begin[k] = place  # in `work`, for now
        place += widths[names[i]]


def settle(
    int64_t[::1] begin, int64_t[::1] features, double[::1] rise, const double[:, ::1] work, const double[:, ::1] work_b, int64_t q,
    const int64_t[::1] names, int64_t count, const int64_t[::1] widths, int64_t targets, double[:, ::1] scratch
):
    """Put a node's droppable features, whose tables lie in `work` in the order `names`, in the order of what dropping them costs."""
    with nogil:
        _settle(begin, features, rise, work, work_b, q, names, count, widths, targets, scratch)


cdef inline void gather(
    double[:, ::1] W, double[:, ::1] B, int64_t *begin, const int64_t *features, int64_t count, const int64_t *widths, int64_t targets,
    const double[:, ::1] work, const double[:, ::1] work_b, int64_t *columns
) noexcept nogil:
    """Copy the tables from `work` into the order that `settle` found; `begin` then says where each feature stands in them."""
    cdef int64_t q, k, i, first, c, j, t
    q = 0
    for k in range(count):
        first = begin[k]
        begin[k] = q
        for c in range(widths[features[k]]):
            columns[q] = first + c
            q += 1
    for i in range(q):
        for j in range(q):
            W[i, j] = work[columns[i], columns[j]]
        for t in range(targets):
            B[i, t] = work_b[columns[i], t]


cdef int64_t _search_parts(
    double[:, :, ::1] W, double[:, :, ::1] B, double[::1] rss, int64_t[:, ::1] features, int64_t[:, ::1] begin, double[:, ::1] rise,
    int64_t[::1] count, int64_t[::1] fixed, int64_t[::1] at, uint64_t[::1] mask, int64_t depth, const int64_t[::1] widths,
    int64_t smallest, int64_t largest, double[:, ::1] best_rss, uint64_t[:, ::1] best_mask, int64_t most,
    double[:, ::1] work, double[:, ::1] work_b, double[:, ::1] scratch, int64_t[::1] columns
) noexcept nogil:
    cdef int64_t targets = B.shape[2], f, made, m, i, below, size, s, to, n
    cdef double child
    cdef uint64_t here
    cdef bint hope
    made = 0
    m = best_rss.shape[1] - 1
    while depth >= 0:
        i = at[depth]
        if i >= count[depth]:
            depth -= 1
            continue
        if made >= most:
            return depth
        at[depth] += 1
        f = features[depth, i]
        child = rss[depth] + rise[depth, i]
        below = count[depth] - 1 - i  # features that the child may still drop
        size = fixed[depth] + count[depth] - 1
        here = mask[depth] & ~(<uint64_t>1 << <uint64_t>f)
        if smallest <= size <= largest:
            _note_set(size, child, here, best_rss, best_mask)
        hope = False
        for s in range(max(smallest, fixed[depth] + i), min(size - 1, largest) + 1):
            if child < best_rss[s, m]:
                hope = True
                break
        if below == 0 or not hope:
            continue
        made += 1
        to = depth + 1
        n = drop_one(W[depth], B[depth], &begin[depth, 0], &widths[0], &features[depth, 0], i, count[depth], targets, work, work_b)
        _settle(begin[to], features[to], rise[to], work, work_b, n, features[depth, i + 1 :], below, widths, targets, scratch)
        if not promising(child, &rise[to, 0], below, fixed[depth] + i, smallest, largest, best_rss):
            continue
        gather(W[to], B[to], &begin[to, 0], &features[to, 0], below, &widths[0], targets, work, work_b, &columns[0])
        rss[to], count[to], fixed[to], at[to], mask[to] = child, below, fixed[depth] + i, 0, here
        depth = to
    return -1


def search_parts(
    double[:, :, ::1] W, double[:, :, ::1] B, double[::1] rss, int64_t[:, ::1] features, int64_t[:, ::1] begin, double[:, ::1] rise,
    int64_t[::1] count, int64_t[::1] fixed, int64_t[::1] at, uint64_t[::1] mask, int64_t depth, const int64_t[::1] widths,
    int64_t smallest, int64_t largest, double[:, ::1] best_rss, uint64_t[:, ::1] best_mask, int64_t most
):
    """Go on with the search for at most `most` tables; returns the depth, -1 when it is over.

    W : float64 (depths, q, q);  B : float64 (depths, q, targets);  rss : float64 (depths,);  features, begin : int64 (depths, p);
    rise : float64 (depths, p);  count, fixed, at : int64 (depths,): droppable features, fixed ones, the next child;
    mask : uint64 (depths,): features of the set.  widths : int64 (p,): columns of each feature.  All are the state, modified in place.
    smallest, largest : sizes that are wanted.  best_rss, best_mask : (sizes, m), see `note_set`. Modified in place.
    """
    cdef int64_t result, q = B.shape[1], targets = B.shape[2], widest = max(1, max(widths, default=1))
    cdef double[:, ::1] work = np.empty((q, q)), work_b = np.empty((q, targets)), scratch = np.empty((widest, widest + targets))
    cdef int64_t[::1] columns = np.empty(q, np.int64)
    with nogil:
        result = _search_parts(
            W, B, rss, features, begin, rise, count, fixed, at, mask, depth, widths, smallest, largest, best_rss, best_mask, most,
            work, work_b, scratch, columns
        )
    return result
