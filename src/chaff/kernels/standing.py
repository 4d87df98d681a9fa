"""What trees of two levels on a few columns each share, whether for one target or for 64 at once.

At each node every column of the tree says the most it could explain there, whether it wins the split or not; the winner splits
the root. The gain of a cut is (s m - t c)^2 / (m c (m - c)): s and t sums of the target on the left and in the node, c and m
counts, whole numbers up to the division, so that both kernels agree to the last bit. Code 0, missing, is the lowest bin of a
number and a level of a category; levels are put in the order of their means, again for every target and node, and levels with
fewer rows than a leaf stand together.
"""

from __future__ import annotations

from chaff.kernels.jit import lean_helper


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
