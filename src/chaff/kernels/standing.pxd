"""Trees of two levels: gains and categories, shared by `standing` and `standing_lanes`."""

from libc.stdint cimport int64_t, uint8_t, uint16_t

ctypedef fused Mark:
    uint8_t
    uint16_t


cdef inline double gain_of(double s, double c, double t, double m) noexcept nogil:
    cdef double d
    d = s * m - t * c
    return d * d / (m * (c * (m - c)))


cdef inline void sort_levels(const double *key, int64_t *order, int64_t length) noexcept nogil:
    """Insertion sort of `order[:length]` by key, ties by code. Modified in place."""
    cdef int64_t i, o, j
    for i in range(1, length):
        o = order[i]
        j = i - 1
        while j >= 0 and key[order[j]] > key[o]:
            order[j + 1] = order[j]
            j -= 1
        order[j + 1] = o


cdef inline (double, int64_t) best_levels(
    int64_t size, int64_t classes, int64_t lead, double leaf, double m, const double *totals, double *c, double[:, ::1] s, double *key,
    int64_t *order, double *left
) noexcept nogil:
    """(best gain, levels on the left of it) of a category in one node.

    c : float64 (256,), s : float64 (256, classes), counts and sums by level; changed where levels are put together.
    totals : float64 (classes,).  left : float64 (classes,), room.  order : int64 (256,), the levels in the order of their means.
    """
    cdef int64_t length, together, b, i, cut, k
    cdef double best, ac, g
    length = 0
    together = -1
    for b in range(size):
        if c[b] <= 0.0:
            continue
        if c[b] < leaf:
            if together < 0:
                together = b
                order[length] = b
                length += 1
            else:
                c[together] += c[b]
                for k in range(classes):
                    s[together, k] += s[b, k]
        else:
            order[length] = b
            length += 1
    for i in range(length):
        b = order[i]
        key[b] = s[b, lead] / c[b]
    sort_levels(key, order, length)
    best = 0.0
    cut = 0
    ac = 0.0
    for k in range(classes):
        left[k] = 0.0
    for i in range(length - 1):
        b = order[i]
        ac += c[b]
        for k in range(classes):
            left[k] += s[b, k]
        if ac < leaf or m - ac < leaf:
            continue
        g = 0.0
        for k in range(classes):
            g += gain_of(left[k], ac, totals[k], m)
        if g > best:
            best = g
            cut = i + 1
    return best, cut


cdef inline void mark_levels(
    const double *c, double leaf, int64_t size, const int64_t *order, int64_t cut, Mark *out, int64_t stride, int64_t value
) noexcept nogil:
    """out[b] = value for the levels on the left; those that stand together go where the first of them goes."""
    cdef int64_t i, b, d
    for i in range(cut):
        b = order[i]
        out[b * stride] = value
        if c[b] < leaf:
            for d in range(size):
                if 0.0 < c[d] < leaf:
                    out[d * stride] = value
