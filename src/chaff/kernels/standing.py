"""What trees of two levels on a few columns each share, whether for one target or for 64 at once.

At each node every column of the tree says the most it could explain there, whether it wins the split or not; the winner splits
the root. The gain of a cut is (s m - t c)^2 / (m c (m - c)): s and t sums of the target on the left and in the node, c and m
counts, whole numbers up to the division, so that both kernels agree to the last bit. Code 0, missing, is the lowest bin of a
number and a level of a category; levels are put in the order of their means, again for every target and node, and levels with
fewer rows than a leaf stand together.

Trees of two levels on a few columns each for one target, with weights; see `chaff.kernels.standing`.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import lean_helper, lean_kernel


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
