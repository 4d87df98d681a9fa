"""Trees of two levels on three columns each for 64 targets at once; see `chaff.kernels.standing`.

One row of 64 targets side by side is added to the bin of that row, so that 64 targets cost a few vector operations.
"""

from libc.stdint cimport int64_t, uint8_t, uint16_t, uint32_t, uint64_t

from chaff.kernels.standing cimport best_levels, mark_levels

cpdef enum:
    LANES = 64

ctypedef fused Lane:
    uint8_t
    uint16_t

ctypedef fused Sum:
    uint16_t
    uint32_t


cdef inline void add_lanes(
    const uint8_t[::1] c0, const uint8_t *c1, const uint8_t *c2, const Lane[:, ::1] Y,
    Sum[:, ::1] S0, Sum[:, ::1] S1, Sum[:, ::1] S2
) noexcept nogil:
    """S[bin, l] += Y[i, l] for every row, lane and column. Modified in place."""
    cdef int64_t i, l
    cdef uint8_t a, b, d
    for i in range(c0.shape[0]):
        a = c0[i]
        b = c1[i]
        d = c2[i]
        for l in range(LANES):
            S0[a, l] += Y[i, l]
        for l in range(LANES):
            S1[b, l] += Y[i, l]
        for l in range(LANES):
            S2[d, l] += Y[i, l]


cdef inline void add_left(
    const uint8_t[::1] c0, const uint8_t *c1, const uint8_t *c2, const Lane[:, ::1] Y,
    const Lane[:, ::1] M0, const Lane[:, ::1] M1, const Lane[:, ::1] M2,
    Lane *L, uint16_t one, Sum[:, ::1] P0, Sum[:, ::1] P1,
    Sum[:, ::1] P2
) noexcept nogil:
    """P[bin, :64] sums and P[bin, 64:] counts of the rows that go left, in the lanes. Modified in place.

    M : (bins, 64), all bits set where a bin of the column that splits in this lane goes left.  L : (128,), room.
    """
    cdef int64_t i, l
    cdef uint8_t a, b, d
    cdef uint64_t s
    for i in range(c0.shape[0]):
        a = c0[i]
        b = c1[i]
        d = c2[i]
        for l in range(LANES):
            s = M0[a, l] | M1[b, l] | M2[d, l]
            L[l] = s & Y[i, l]
            L[LANES + l] = s & one
        for l in range(2 * LANES):
            P0[a, l] += L[l]
        for l in range(2 * LANES):
            P1[b, l] += L[l]
        for l in range(2 * LANES):
            P2[d, l] += L[l]


cdef inline void add_classes(double *g, int64_t classes, int64_t targets) noexcept nogil:
    """Gains of a target's class lanes added up, in its first lanes."""
    cdef int64_t t, k
    cdef double x
    if classes > 1:
        for t in range(targets):
            x = 0.0
            for k in range(classes):
                x += g[t * classes + k]
            g[t] = x


cdef inline void scan_root(
    const Sum[:, ::1] S, const double *count, int64_t size, double n, const double *totals, double leaf,
    int64_t classes, int64_t targets, double *acc, double *g, double *best, double *cut
) noexcept nogil:
    """Best gain and last bin on the left of an ordered column, in the lanes."""
    cdef int64_t l, b
    cdef double c, den, at, d
    cdef bint up
    for l in range(LANES):
        acc[l] = 0.0
        best[l] = 0.0
        cut[l] = -1.0
    c = 0.0
    for b in range(size - 1):
        c += count[b]
        for l in range(LANES):
            acc[l] += S[b, l]
        if c < leaf or n - c < leaf:
            continue
        den = n * (c * (n - c))
        at = <double>b
        for l in range(LANES):
            d = acc[l] * n - totals[l] * c
            g[l] = d * d / den
        add_classes(g, classes, targets)
        for l in range(LANES):
            up = g[l] > best[l]
            best[l] = g[l] if up else best[l]
            cut[l] = at if up else cut[l]


cdef inline void scan_child(
    const Sum[:, ::1] P, const Sum[:, ::1] S, const double *count, int64_t size, bint right,
    const double *m, const double *totals, double leaf, int64_t classes, int64_t targets, double *ac, double *acc, double *g,
    double *best
) noexcept nogil:
    """Best gain of an ordered column in one child, in the lanes."""
    cdef int64_t l, b
    cdef double c0, d, den
    cdef bint fits
    for l in range(LANES):
        ac[l] = 0.0
        acc[l] = 0.0
        best[l] = 0.0
    for b in range(size - 1):
        c0 = count[b]
        if right:
            for l in range(LANES):
                ac[l] += c0 - <double>(P[b, LANES + l])
                acc[l] += <double>(S[b, l]) - <double>(P[b, l])
        else:
            for l in range(LANES):
                ac[l] += <double>(P[b, LANES + l])
                acc[l] += <double>(P[b, l])
        for l in range(LANES):
            fits = (ac[l] >= leaf) & (m[l] - ac[l] >= leaf)
            d = acc[l] * m[l] - totals[l] * ac[l]
            den = m[l] * (ac[l] * (m[l] - ac[l]))
            g[l] = d * d / den if fits else 0.0
        add_classes(g, classes, targets)
        for l in range(LANES):
            best[l] = max(best[l], g[l])


cdef inline (double, int64_t) levels_of_root(
    const Sum[:, ::1] S, const double *count, int64_t size, double n, const double *totals, double leaf,
    int64_t classes, int64_t lead, int64_t t, double *c, double[:, ::1] s, double *key, int64_t *order, double *own, double *left
) noexcept nogil:
    cdef int64_t at, b, k
    at = t * classes
    for b in range(size):
        c[b] = count[b]
        for k in range(classes):
            s[b, k] = <double>(S[b, at + k])
    for k in range(classes):
        own[k] = totals[at + k]
    return best_levels(size, classes, lead, leaf, n, own, c, s, key, order, left)


cdef inline double levels_of_child(
    const Sum[:, ::1] P, const Sum[:, ::1] S, const double *count, int64_t size, bint right,
    const double *m, const double *totals, double leaf, int64_t classes, int64_t lead, int64_t t, double *c, double[:, ::1] s,
    double *key, int64_t *order, double *own, double *left
) noexcept nogil:
    cdef int64_t at, b, k
    cdef double x, y
    at = t * classes
    for b in range(size):
        x = <double>(P[b, LANES + at])
        c[b] = count[b] - x if right else x
        for k in range(classes):
            y = <double>(P[b, at + k])
            s[b, k] = <double>(S[b, at + k]) - y if right else y
    for k in range(classes):
        own[k] = totals[at + k]
    return best_levels(size, classes, lead, leaf, m[at], own, c, s, key, order, left)[0]


cdef inline void send_left(
    const Sum[:, :, ::1] S, const double[:, ::1] counts, const int64_t *sizes, const uint8_t *category,
    const int64_t[::1] cols, double n, const double *totals, double leaf, int64_t classes, int64_t lead, int64_t t, uint16_t full,
    const double[:, ::1] best, const double[:, ::1] cut, Lane[:, :, ::1] M, double[:, ::1] m, double[:, ::1] tt,
    double *c, double[:, ::1] s, double *key, int64_t *order, double *own, double *left
) noexcept nogil:
    """Split the root by the best column of target t: mark its bins on the left in M, count their rows in m[0] and sum them up in
    tt[0], in the lanes of the target. Modified in place."""
    cdef int64_t win, j, f, b, k, at, l
    cdef double gain
    win = 0
    for j in range(1, cols.shape[0]):
        if best[j, t] > best[win, t]:
            win = j
    if best[win, t] <= 0.0:
        return
    f = cols[win]
    if category[f]:
        gain, at = levels_of_root(S[win], &counts[f, 0], sizes[f], n, totals, leaf, classes, lead, t, c, s, key, order, own, left)
        for b in range(sizes[f]):
            c[b] = counts[f, b]
        for k in range(classes):
            mark_levels(c, leaf, sizes[f], order, at, &M[win, 0, t * classes + k], LANES, <Lane>full)
    else:
        for b in range(<int64_t>(cut[win, t]) + 1):
            for k in range(classes):
                M[win, b, t * classes + k] = full
    for b in range(sizes[f]):
        for k in range(classes):
            l = t * classes + k
            if M[win, b, l] != 0:
                m[0, l] += counts[f, b]
                tt[0, l] += <double>(S[win, b, l])


def lanes_of_trees(
    const uint8_t[:, ::1] columns, const Lane[:, ::1] Y, const int64_t[:, ::1] drawn, const int64_t[::1] sizes,
    const uint8_t[::1] category, const double[:, ::1] counts, int64_t classes, int64_t targets, int64_t lead, double leaf,
    int64_t levels, uint16_t full, uint16_t one, double[:, ::1] gains, Sum[:, :, ::1] S,
    Sum[:, :, ::1] P, Lane[:, :, ::1] M, Lane[::1] L, double[::1] totals,
    double[:, ::1] best, double[:, ::1] cut, double[::1] acc, double[::1] ac, double[::1] g, double[:, ::1] m, double[:, ::1] tt,
    double[::1] c, double[:, ::1] s, double[::1] key, int64_t[::1] order, double[::1] own, double[::1] left
):
    """Add what each column explains in each tree to `gains`, for up to 64 lanes of targets at once.

    columns : uint8 (p, n).  Y : (n, 64) unsigned, targets side by side; of several classes an indicator each.
    drawn : int64 (trees, 3), columns of each tree.  sizes : int64 (p,) codes.  category : bool (p,).
    counts : float64 (p, 256) rows of each code.  leaf : float.  levels : 1 or 2.  full : the unsigned number with all bits set,
    one : 1 in the same type.  gains : float64 (64, p), rows 0..targets - 1 are filled.  The rest is room to work in.
    """
    cdef double n, x
    cdef int64_t l, i, q, tree, j, t, side, b, f, at
    cdef const int64_t[::1] cols
    with nogil:
        n = <double>(Y.shape[0])
        for l in range(LANES):
            totals[l] = 0.0
        for i in range(Y.shape[0]):
            for l in range(LANES):
                totals[l] += <double>(Y[i, l])
        q = 3
        for tree in range(drawn.shape[0]):
            cols = drawn[tree]
            for j in range(q):
                for b in range(sizes[cols[j]]):
                    for l in range(LANES):
                        S[j, b, l] = 0
            add_lanes(columns[cols[0]], &columns[cols[1], 0], &columns[cols[2], 0], Y, S[0], S[1], S[2])
            for j in range(q):
                f = cols[j]
                if category[f]:
                    for t in range(targets):
                        x, at = levels_of_root(
                            S[j], &counts[f, 0], sizes[f], n, &totals[0], leaf, classes, lead, t, &c[0], s, &key[0], &order[0], &own[0], &left[0]
                        )  # fmt: skip
                        best[j, t] = x
                        cut[j, t] = <double>at
                else:
                    scan_root(S[j], &counts[f, 0], sizes[f], n, &totals[0], leaf, classes, targets, &acc[0], &g[0], &best[j, 0], &cut[j, 0])
                for t in range(targets):
                    gains[t, f] += best[j, t]
            if levels < 2:
                continue
            for j in range(q):
                for b in range(sizes[cols[j]]):
                    for l in range(LANES):
                        M[j, b, l] = 0
                    for l in range(2 * LANES):
                        P[j, b, l] = 0
            for l in range(LANES):
                m[0, l] = 0.0
                tt[0, l] = 0.0
            for t in range(targets):
                send_left(
                    S, counts, &sizes[0], &category[0], cols, n, &totals[0], leaf, classes, lead, t, full, best, cut, M, m, tt, &c[0], s, &key[0], &order[0], &own[0], &left[0]
                )
            add_left(columns[cols[0]], &columns[cols[1], 0], &columns[cols[2], 0], Y, M[0], M[1], M[2], &L[0], one, P[0], P[1], P[2])
            for l in range(LANES):
                m[1, l] = n - m[0, l]
                tt[1, l] = totals[l] - tt[0, l]
            for side in range(2):
                for j in range(q):
                    f = cols[j]
                    if category[f]:
                        for t in range(targets):
                            gains[t, f] += levels_of_child(
                                P[j], S[j], &counts[f, 0], sizes[f], side == 1, &m[side, 0], &tt[side, 0], leaf, classes, lead, t, &c[0], s, &key[0], &order[0],
                                &own[0], &left[0],
                            ) if m[0, t * classes] > 0.0 else 0.0  # fmt: skip
                    else:
                        scan_child(
                            P[j], S[j], &counts[f, 0], sizes[f], side == 1, &m[side, 0], &tt[side, 0], leaf, classes, targets, &ac[0], &acc[0], &g[0], &best[j, 0]
                        )  # fmt: skip
                        for t in range(targets):
                            if m[0, t * classes] > 0.0:
                                gains[t, f] += best[j, t]
