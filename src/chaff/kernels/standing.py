"""Trees of two levels on a few columns each, for one target or for 64 at once.

At each node every column of the tree says the most it could explain there, whether it wins the split or not; the winner splits
the root. The gain of a cut is (s m - t c)^2 / (m c (m - c)): s and t sums of the target on the left and in the node, c and m
counts, whole numbers up to the division, so that both kernels agree to the last bit. Code 0, missing, is the lowest bin of a
number and a level of a category; levels are put in the order of their means, anew for every target and node, and levels with
fewer rows than a leaf stand together.

Lanes: one row of 64 targets side by side is added to the bin of that row, so that 64 targets cost a few vector operations.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import lean_helper, lean_kernel

LANES = 64


@lean_helper
def gain_of(s, c, t, m):
    d = s * m - t * c
    return d * d / (m * (c * (m - c)))


@lean_helper
def sort_levels(key, order, length):
    """Insertion sort of `order[:length]` by key, ties by code. Modified in place."""
    for i in range(1, length):
        o = order[i]
        j = i - 1
        while j >= 0 and key[order[j]] > key[o]:
            order[j + 1] = order[j]
            j -= 1
        order[j + 1] = o


@lean_helper
def best_levels(size, classes, lead, leaf, m, totals, c, s, key, order, left):
    """(best gain, levels on the left of it) of a category in one node.

    c : float64 (256,), s : float64 (256, classes), counts and sums by level; changed where levels are put together.
    totals : float64 (classes,).  left : float64 (classes,), room.  order : int64 (256,), the levels in the order of their means.
    """
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


@lean_helper
def mark_levels(c, leaf, size, order, cut, out, value):
    """out[b] = value for the levels on the left; those that stand together go where the first of them goes."""
    for i in range(cut):
        b = order[i]
        out[b] = value
        if c[b] < leaf:
            for d in range(size):
                if 0.0 < c[d] < leaf:
                    out[d] = value


# ---------------------------------------------------------------- 64 targets at once


@lean_helper
def add_lanes(c0, c1, c2, Y, S0, S1, S2):
    """S[bin, l] += Y[i, l] for every row, lane and column. Modified in place."""
    for i in range(c0.size):
        a = c0[i]
        b = c1[i]
        d = c2[i]
        for l in range(LANES):
            S0[a, l] += Y[i, l]
        for l in range(LANES):
            S1[b, l] += Y[i, l]
        for l in range(LANES):
            S2[d, l] += Y[i, l]


@lean_helper
def add_left(c0, c1, c2, Y, M0, M1, M2, L, one, P0, P1, P2):
    """P[bin, :64] sums and P[bin, 64:] counts of the rows that go left, in the lanes. Modified in place.

    M : (bins, 64), all bits set where a bin of the column that splits in this lane goes left.  L : (128,), room.
    """
    for i in range(c0.size):
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


@lean_helper
def add_classes(g, classes, targets):
    """Gains of a target's class lanes added up, in its first lanes."""
    if classes > 1:
        for t in range(targets):
            x = 0.0
            for k in range(classes):
                x += g[t * classes + k]
            g[t] = x


@lean_helper
def scan_root(S, count, size, n, totals, leaf, classes, targets, acc, g, best, cut):
    """Best gain and last bin on the left of an ordered column, in the lanes."""
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
        at = float(b)
        for l in range(LANES):
            d = acc[l] * n - totals[l] * c
            g[l] = d * d / den
        add_classes(g, classes, targets)
        for l in range(LANES):
            up = g[l] > best[l]
            best[l] = g[l] if up else best[l]
            cut[l] = at if up else cut[l]


@lean_helper
def scan_child(P, S, count, size, right, m, totals, leaf, classes, targets, ac, acc, g, best):
    """Best gain of an ordered column in one child, in the lanes."""
    for l in range(LANES):
        ac[l] = 0.0
        acc[l] = 0.0
        best[l] = 0.0
    for b in range(size - 1):
        c0 = count[b]
        if right:
            for l in range(LANES):
                ac[l] += c0 - float(P[b, LANES + l])
                acc[l] += float(S[b, l]) - float(P[b, l])
        else:
            for l in range(LANES):
                ac[l] += float(P[b, LANES + l])
                acc[l] += float(P[b, l])
        for l in range(LANES):
            fits = (ac[l] >= leaf) & (m[l] - ac[l] >= leaf)
            d = acc[l] * m[l] - totals[l] * ac[l]
            den = m[l] * (ac[l] * (m[l] - ac[l]))
            g[l] = d * d / den if fits else 0.0
        add_classes(g, classes, targets)
        for l in range(LANES):
            best[l] = max(best[l], g[l])


@lean_helper
def levels_of_root(S, count, size, n, totals, leaf, classes, lead, t, c, s, key, order, mine, left):
    at = t * classes
    for b in range(size):
        c[b] = count[b]
        for k in range(classes):
            s[b, k] = float(S[b, at + k])
    for k in range(classes):
        mine[k] = totals[at + k]
    return best_levels(size, classes, lead, leaf, n, mine, c, s, key, order, left)


@lean_helper
def levels_of_child(P, S, count, size, right, m, totals, leaf, classes, lead, t, c, s, key, order, mine, left):
    at = t * classes
    for b in range(size):
        x = float(P[b, LANES + at])
        c[b] = count[b] - x if right else x
        for k in range(classes):
            y = float(P[b, at + k])
            s[b, k] = float(S[b, at + k]) - y if right else y
    for k in range(classes):
        mine[k] = totals[at + k]
    return best_levels(size, classes, lead, leaf, m[at], mine, c, s, key, order, left)[0]


@lean_helper
def send_left(S, counts, sizes, category, cols, n, totals, leaf, classes, lead, t, full, best, cut, M, m, tt, c, s, key, order, mine, left):
    """Split the root by the best column of target t: mark its bins on the left in M, count their rows in m[0] and sum them up in
    tt[0], in the lanes of the target. Modified in place."""
    win = 0
    for j in range(1, cols.size):
        if best[j, t] > best[win, t]:
            win = j
    if best[win, t] <= 0.0:
        return
    f = cols[win]
    if category[f]:
        _, at = levels_of_root(S[win], counts[f], sizes[f], n, totals, leaf, classes, lead, t, c, s, key, order, mine, left)
        for b in range(sizes[f]):
            c[b] = counts[f, b]
        for k in range(classes):
            mark_levels(c, leaf, sizes[f], order, at, M[win, :, t * classes + k], full)
    else:
        for b in range(int(cut[win, t]) + 1):
            for k in range(classes):
                M[win, b, t * classes + k] = full
    for b in range(sizes[f]):
        for k in range(classes):
            l = t * classes + k
            if M[win, b, l] != 0:
                m[0, l] += counts[f, b]
                tt[0, l] += float(S[win, b, l])


@lean_kernel
def lanes_of_trees(
    columns, Y, drawn, sizes, category, counts, classes, targets, lead, leaf, levels, full, one, gains,
    S, P, M, L, totals, best, cut, acc, ac, g, m, tt, c, s, key, order, mine, left,
):  # fmt: skip
    """Add what each column explains in each tree to `gains`, for up to 64 lanes of targets at once.

    columns : uint8 (p, n).  Y : (n, 64) unsigned, targets side by side; of several classes an indicator each.
    drawn : int64 (trees, 3), columns of each tree.  sizes : int64 (p,) codes.  category : bool (p,).
    counts : float64 (p, 256) rows of each code.  leaf : float.  levels : 1 or 2.  full : the unsigned number with all bits set,
    one : 1 in the same type.  gains : float64 (64, p), rows 0..targets - 1 are filled.  The rest is room to work in.
    """
    n = float(Y.shape[0])
    for l in range(LANES):
        totals[l] = 0.0
    for i in range(Y.shape[0]):
        for l in range(LANES):
            totals[l] += float(Y[i, l])
    q = 3
    for tree in range(drawn.shape[0]):
        cols = drawn[tree]
        for j in range(q):
            for b in range(sizes[cols[j]]):
                for l in range(LANES):
                    S[j, b, l] = 0
        add_lanes(columns[cols[0]], columns[cols[1]], columns[cols[2]], Y, S[0], S[1], S[2])
        for j in range(q):
            f = cols[j]
            if category[f]:
                for t in range(targets):
                    x, at = levels_of_root(
                        S[j], counts[f], sizes[f], n, totals, leaf, classes, lead, t, c, s, key, order, mine, left
                    )  # fmt: skip
                    best[j, t] = x
                    cut[j, t] = float(at)
            else:
                scan_root(S[j], counts[f], sizes[f], n, totals, leaf, classes, targets, acc, g, best[j], cut[j])
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
                S, counts, sizes, category, cols, n, totals, leaf, classes, lead, t, full, best, cut, M, m, tt, c, s, key, order, mine, left
            )
        add_left(columns[cols[0]], columns[cols[1]], columns[cols[2]], Y, M[0], M[1], M[2], L, one, P[0], P[1], P[2])
        for l in range(LANES):
            m[1, l] = n - m[0, l]
            tt[1, l] = totals[l] - tt[0, l]
        for side in range(2):
            for j in range(q):
                f = cols[j]
                if category[f]:
                    for t in range(targets):
                        gains[t, f] += levels_of_child(
                            P[j], S[j], counts[f], sizes[f], side == 1, m[side], tt[side], leaf, classes, lead, t, c, s, key, order,
                            mine, left,
                        ) if m[0, t * classes] > 0.0 else 0.0  # fmt: skip
                else:
                    scan_child(
                        P[j], S[j], counts[f], sizes[f], side == 1, m[side], tt[side], leaf, classes, targets, ac, acc, g, best[j]
                    )  # fmt: skip
                    for t in range(targets):
                        if m[0, t * classes] > 0.0:
                            gains[t, f] += best[j, t]


# ---------------------------------------------------------------- one target


@lean_helper
def scan_alone(h, c, size, m, totals, leaf, classes, left):
    """(best gain, last bin on the left) of an ordered column in one node."""
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


@lean_helper
def add_packed(c, packed, H):
    for i in range(c.size):
        H[c[i]] += packed[i]


@lean_helper
def add_few(c, few, count, size, shift, H):
    for b in range(size):
        H[b] = np.int64(count[b]) << shift
    for i in range(few.size):
        H[c[few[i]]] += 1


@lean_helper
def add_sides(c, side_of, packed, H):
    for i in range(c.size):
        H[np.uint64(side_of[i] + np.uint16(c[i]))] += packed[i]


@lean_helper
def unpack(H, size, classes, shift, c, s):
    """Counts (size,) and sums (size, classes) from packed sums, one a code, or one a code and class."""
    for b in range(size):
        if classes == 1:
            m = H[b] >> shift
            c[b] = float(m)
            s[b, 0] = float(H[b] - (m << shift))
        else:
            c[b] = 0.0
            for k in range(classes):
                x = float(H[b * classes + k])
                s[b, k] = x
                c[b] += x


@lean_helper
def node_alone(H, size, category, classes, shift, lead, leaf, c, s, totals, key, order, left):
    """(best gain, cut) of one column in one node, from its packed histogram; levels to the left are the first `cut` of `order`."""
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


@lean_helper
def fill_root(c, packed, y, few, count, size, classes, shift, H):
    for b in range(size * classes):
        H[b] = 0
    if few.size:
        add_few(c, few, count, size, shift, H)
    elif classes == 1:
        add_packed(c, packed, H)
    else:
        for i in range(c.size):
            H[np.int64(c[i]) * classes + y[i]] += packed[i]


@lean_helper
def mark_below(H, size, category, classes, shift, leaf, cut, c, s, order, below):
    """below[b] = 1 for the codes on the left. Modified in place."""
    for b in range(256):
        below[b] = 0
    if category:
        unpack(H, size, classes, shift, c, s)
        mark_levels(c, leaf, size, order, cut, below, 1)
    else:
        for b in range(cut + 1):
            below[b] = 1


@lean_helper
def fill_children(c, packed, y, side_of, size, classes, C):
    """Both children of the root side by side, from the rows."""
    for side in range(2):
        for b in range(size * classes):
            C[256 * classes * side + b] = 0
    if classes == 1:
        add_sides(c, side_of, packed, C)
    else:
        for i in range(c.size):
            C[(np.int64(side_of[i]) + np.int64(c[i])) * classes + y[i]] += packed[i]


@lean_helper
def fill_two(c, d, packed, side_of, sizes_c, sizes_d, C, D):
    """The same for two columns of one target at once: rows are read once."""
    for side in range(2):
        for b in range(sizes_c):
            C[256 * side + b] = 0
        for b in range(sizes_d):
            D[256 * side + b] = 0
    for i in range(c.size):
        s = side_of[i]
        v = packed[i]
        C[np.uint64(s + np.uint16(c[i]))] += v
        D[np.uint64(s + np.uint16(d[i]))] += v


@lean_helper
def share_root(H, size, classes, below, C):
    """Both children in the column that splits: the two pieces of its root."""
    for b in range(size):
        for k in range(classes):
            C[b * classes + k] = H[b * classes + k] if below[b] else 0
            C[(256 + b) * classes + k] = 0 if below[b] else H[b * classes + k]


@lean_kernel
def trees_of_target(
    columns, packed, y, few, counts, drawn, sizes, category, classes, shift, lead, leaf, levels, gains,
    H, C, side_of, below, c, s, totals, key, order, left,
):  # fmt: skip
    """The same as `lanes_of_trees` for one target with weights: gains float64 (p,).

    packed : int64 (n,), weight << shift | weight x target; with several classes the weight.  y : int64 (n,) class.
    few : uint32, the rows whose target is 1 where all others are 0 and none has a weight, and counts : float64 (p, 256) rows of
    each code; empty otherwise.
    H : int64 (q, 256 * classes), C : int64 (q, 512 * classes), rooms for histograms of the root and of both children.
    side_of : uint16 (n,).  below : uint8 (256,).
    """
    for tree in range(drawn.shape[0]):
        cols = drawn[tree]
        top = 0.0
        win = -1
        for j in range(cols.size):
            f = cols[j]
            fill_root(columns[f], packed, y, few, counts[f] if few.size else left, sizes[f], classes, shift, H[j])
            g, cut = node_alone(H[j], sizes[f], category[f], classes, shift, lead, leaf, c, s, totals, key, order, left)
            gains[f] += g
            if g > top:
                top = g
                win = j
                mark_below(H[j], sizes[f], category[f], classes, shift, leaf, cut, c, s, order, below)
        if levels < 2 or win < 0:
            continue
        w = columns[cols[win]]
        for i in range(w.size):
            side_of[i] = np.uint16(256) * np.uint16(1 - below[w[i]])
        two = classes == 1 and cols.size == 3
        if two:
            a = (win + 1) % 3
            b = (win + 2) % 3
            fill_two(columns[cols[a]], columns[cols[b]], packed, side_of, sizes[cols[a]], sizes[cols[b]], C[a], C[b])
        for j in range(cols.size):
            f = cols[j]
            if j == win:
                share_root(H[j], sizes[f], classes, below, C[j])
            elif not two:
                fill_children(columns[f], packed, y, side_of, sizes[f], classes, C[j])
            for side in range(2):
                child = C[j, 256 * classes * side : 256 * classes * (side + 1)]
                gains[f] += node_alone(child, sizes[f], category[f], classes, shift, lead, leaf, c, s, totals, key, order, left)[0]
