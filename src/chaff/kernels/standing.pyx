"""What trees of two levels on a few columns each share, whether for one target or for 64 at once.

At each node every column of the tree says the most it could explain there, whether it wins the split or not; the winner splits
the root. The gain of a cut is (s m - t c)^2 / (m c (m - c)): s and t sums of the target on the left and in the node, c and m
counts, whole numbers up to the division, so that both kernels agree to the last bit. Code 0, missing, is the lowest bin of a
number and a level of a category; levels are put in the order of their means, again for every target and node, and levels with
fewer rows than a leaf stand together.

Trees of two levels on a few columns each for one target, with weights; see `chaff.kernels.standing`.
"""

from libc.stdint cimport int64_t, uint8_t, uint16_t, uint32_t, uint64_t


cdef inline (double, int64_t) scan_alone(
    const double[:, ::1] h, const double *c, int64_t size, double m, const double *totals, double leaf, int64_t classes, double *left
) noexcept nogil:
    """(best gain, last bin on the left) of an ordered column in one node."""
    cdef double best, ac, g
    cdef int64_t cut, k, b
    best = 0.0
    cut = -1
    ac = 0.0
    for k in range(classes):
        left[k] = 0.0
    for b in range(size - 1):
        ac += c[b]
        for k in range(classes):
            left[k] += h[b, k]
        if ac < leaf or m - ac < leaf:
            continue
        g = 0.0
        for k in range(classes):
            g += gain_of(left[k], ac, totals[k], m)
        if g > best:
            best = g
            cut = b
    return best, cut


cdef inline void add_packed(const uint8_t[::1] c, const int64_t *packed, int64_t *H) noexcept nogil:
    cdef int64_t i
    for i in range(c.shape[0]):
        H[c[i]] += packed[i]


cdef inline void add_few(
    const uint8_t *c, const uint32_t[::1] few, const double *count, int64_t size, int64_t shift, int64_t *H
) noexcept nogil:
    cdef int64_t b, i
    for b in range(size):
        H[b] = <int64_t>(count[b]) << shift
    for i in range(few.shape[0]):
        H[c[few[i]]] += 1


cdef inline void add_sides(const uint8_t[::1] c, const uint16_t *side_of, const int64_t *packed, int64_t *H) noexcept nogil:
    cdef int64_t i
    for i in range(c.shape[0]):
        H[<uint64_t>(side_of[i] + <uint16_t>(c[i]))] += packed[i]


cdef inline void unpack(const int64_t *H, int64_t size, int64_t classes, int64_t shift, double *c, double[:, ::1] s) noexcept nogil:
    """Counts (size,) and sums (size, classes) from packed sums, one a code, or one a code and class."""
    cdef int64_t b, m, k
    cdef double x
    for b in range(size):
        if classes == 1:
            m = H[b] >> shift
            c[b] = <double>m
            s[b, 0] = <double>(H[b] - (m << shift))
        else:
            c[b] = 0.0
            for k in range(classes):
                x = <double>(H[b * classes + k])
                s[b, k] = x
                c[b] += x


cdef inline (double, int64_t) node_alone(
    const int64_t *H, int64_t size, bint category, int64_t classes, int64_t shift, int64_t lead, double leaf, double *c,
    double[:, ::1] s, double *totals, double *key, int64_t *order, double *left
) noexcept nogil:
    """(best gain, cut) of one column in one node, from its packed histogram; levels to the left are the first `cut` of `order`."""
    cdef double m
    cdef int64_t k, b
    unpack(H, size, classes, shift, c, s)
    m = 0.0
    for k in range(classes):
        totals[k] = 0.0
    for b in range(size):
        m += c[b]
        for k in range(classes):
            totals[k] += s[b, k]
    if category:
        return best_levels(size, classes, lead, leaf, m, totals, c, s, key, order, left)
    return scan_alone(s, c, size, m, totals, leaf, classes, left)


cdef inline void fill_root(
    const uint8_t[::1] c, const int64_t *packed, const int64_t *y, const uint32_t[::1] few, const double *count, int64_t size,
    int64_t classes, int64_t shift, int64_t *H
) noexcept nogil:
    cdef int64_t b, i
    for b in range(size * classes):
        H[b] = 0
    if few.shape[0]:
        add_few(&c[0], few, count, size, shift, H)
    elif classes == 1:
        add_packed(c, packed, H)
    else:
        for i in range(c.shape[0]):
            H[<int64_t>(c[i]) * classes + y[i]] += packed[i]


cdef inline void mark_below(
    const int64_t *H, int64_t size, bint category, int64_t classes, int64_t shift, double leaf, int64_t cut, double *c, double[:, ::1] s,
    const int64_t *order, uint8_t *below
) noexcept nogil:
    """below[b] = 1 for the codes on the left. Modified in place."""
    cdef int64_t b
    for b in range(256):
        below[b] = 0
    if category:
        unpack(H, size, classes, shift, c, s)
        mark_levels(c, leaf, size, order, cut, below, 1, <uint8_t>1)
    else:
        for b in range(cut + 1):
            below[b] = 1


cdef inline void fill_children(
    const uint8_t[::1] c, const int64_t *packed, const int64_t *y, const uint16_t *side_of, int64_t size, int64_t classes, int64_t *C
) noexcept nogil:
    """Both children of the root side by side, from the rows."""
    cdef int64_t side, b, i
    for side in range(2):
        for b in range(size * classes):
            C[256 * classes * side + b] = 0
    if classes == 1:
        add_sides(c, side_of, packed, C)
    else:
        for i in range(c.shape[0]):
            C[(<int64_t>(side_of[i]) + <int64_t>(c[i])) * classes + y[i]] += packed[i]


cdef inline void fill_two(
    const uint8_t[::1] c, const uint8_t *d, const int64_t *packed, const uint16_t *side_of, int64_t sizes_c, int64_t sizes_d, int64_t *C,
    int64_t *D
) noexcept nogil:
    """The same for two columns of one target at once: rows are read once."""
    cdef int64_t side, i, b, v
    cdef uint16_t s
    for side in range(2):
        for b in range(sizes_c):
            C[256 * side + b] = 0
        for b in range(sizes_d):
            D[256 * side + b] = 0
    for i in range(c.shape[0]):
        s = side_of[i]
        v = packed[i]
        C[<uint64_t>(s + <uint16_t>(c[i]))] += v
        D[<uint64_t>(s + <uint16_t>(d[i]))] += v


cdef inline void share_root(const int64_t *H, int64_t size, int64_t classes, const uint8_t *below, int64_t *C) noexcept nogil:
    """Both children in the column that splits: the two pieces of its root."""
    cdef int64_t b, k
    for b in range(size):
        for k in range(classes):
            C[b * classes + k] = H[b * classes + k] if below[b] else 0
            C[(256 + b) * classes + k] = 0 if below[b] else H[b * classes + k]


def trees_of_target(
    const uint8_t[:, ::1] columns, const int64_t[::1] packed, const int64_t[::1] y, const uint32_t[::1] few, const double[:, ::1] counts,
    const int64_t[:, ::1] drawn, const int64_t[::1] sizes, const uint8_t[::1] category, int64_t classes, int64_t shift, int64_t lead,
    double leaf, int64_t levels, double[::1] gains, int64_t[:, ::1] H, int64_t[:, ::1] C, uint16_t[::1] side_of, uint8_t[::1] below,
    double[::1] c, double[:, ::1] s, double[::1] totals, double[::1] key, int64_t[::1] order, double[::1] left
):
    """The same as `lanes_of_trees` for one target with weights: gains float64 (p,).

    packed : int64 (n,), weight << shift | weight x target; with several classes the weight.  y : int64 (n,) class.
    few : uint32, the rows whose target is 1 where all others are 0 and none has a weight, and counts : float64 (p, 256) rows of
    each code; empty otherwise.
    H : int64 (q, 256 * classes), C : int64 (q, 512 * classes), rooms for histograms of the root and of both children.
    side_of : uint16 (n,).  below : uint8 (256,).
    """
    cdef int64_t tree, win, j, i, f, a, b, side, cut
    cdef double top, g
    cdef bint two
    cdef const int64_t *cols
    cdef const uint8_t *w
    cdef int64_t *child
    with nogil:
        for tree in range(drawn.shape[0]):
            cols = &drawn[tree, 0]
            top = 0.0
            win = -1
            for j in range(drawn.shape[1]):
                f = cols[j]
                fill_root(
                    columns[f], &packed[0], &y[0], few, &counts[f, 0] if few.shape[0] else &left[0], sizes[f], classes, shift, &H[j, 0]
                )
                g, cut = node_alone(
                    &H[j, 0], sizes[f], category[f], classes, shift, lead, leaf, &c[0], s, &totals[0], &key[0], &order[0], &left[0]
                )
                gains[f] += g
                if g > top:
                    top = g
                    win = j
                    mark_below(&H[j, 0], sizes[f], category[f], classes, shift, leaf, cut, &c[0], s, &order[0], &below[0])
            if levels < 2 or win < 0:
                continue
            w = &columns[cols[win], 0]
            for i in range(columns.shape[1]):
                side_of[i] = <uint16_t>256 * <uint16_t>(1 - below[w[i]])
            two = classes == 1 and drawn.shape[1] == 3
            if two:
                a = (win + 1) % 3
                b = (win + 2) % 3
                fill_two(
                    columns[cols[a]], &columns[cols[b], 0], &packed[0], &side_of[0], sizes[cols[a]], sizes[cols[b]], &C[a, 0], &C[b, 0]
                )
            for j in range(drawn.shape[1]):
                f = cols[j]
                if j == win:
                    share_root(&H[j, 0], sizes[f], classes, &below[0], &C[j, 0])
                elif not two:
                    fill_children(columns[f], &packed[0], &y[0], &side_of[0], sizes[f], classes, &C[j, 0])
                for side in range(2):
                    child = &C[j, 256 * classes * side]
                    gains[f] += node_alone(
                        child, sizes[f], category[f], classes, shift, lead, leaf, &c[0], s, &totals[0], &key[0], &order[0], &left[0]
                    )[0]
