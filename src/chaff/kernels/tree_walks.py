"""Walking grown trees: predictions, and what they become when one column takes another row's code.

What each column brings to each prediction of grown trees: steps along the path, and Shapley values over all leaves.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel, lean_helper, lean_kernel

ONE = np.uint64(1)
CATEGORY = 512
MISSING_RIGHT = 256
LEAF = 255  # every code goes left, and the left child of a leaf is the leaf
DEEPEST = 1000  # longest path from root to leaf that room is made for


@lean_helper
def goes_left(word, code, sets, at):
    """Whether a code goes to the left child of the node `word`."""
    if word & 512:
        return (sets[at, code >> 6] >> np.uint64(code & 63)) & ONE != np.uint64(0)
    return ((code - ((word >> 8) & 1)) & 255) <= (word & 255)


@lean_helper
def step(word, codes, at, sets):
    """The child that a row goes to; a leaf leads to itself."""
    code = np.int64(codes[np.uint32((word >> 12) & 0xFFFFF)])
    return np.uint32((word >> 32) + (0 if goes_left(word, code, sets, at) else 1))


@lean_kernel
def add_predictions(codes, node, first, pick, sets, value, out):
    """Sum of leaf values over trees; four rows walk side by side.

    codes : uint8 (n, p).  first : int64 (trees + 1,), where each tree's nodes begin.  value : float64 (nodes, t).
    out : float64 (n, t). Modified in place.
    """
    n = codes.shape[0]
    for t in range(first.size - 1):
        tree = node[first[t] : first[t + 1]]
        at = pick[first[t] : first[t + 1]]
        leaf = value[first[t] : first[t + 1]]
        for i in range(0, n, 4):
            i1 = min(i + 1, n - 1)
            i2 = min(i + 2, n - 1)
            i3 = min(i + 3, n - 1)
            a = b = c = d = np.uint32(0)
            while True:
                w0, w1, w2, w3 = tree[a], tree[b], tree[c], tree[d]
                a1 = step(w0, codes[i], at[a] if w0 & 512 else 0, sets)
                b1 = step(w1, codes[i1], at[b] if w1 & 512 else 0, sets)
                c1 = step(w2, codes[i2], at[c] if w2 & 512 else 0, sets)
                d1 = step(w3, codes[i3], at[d] if w3 & 512 else 0, sets)
                same = (a1 ^ a) | (b1 ^ b) | (c1 ^ c) | (d1 ^ d)
                a, b, c, d = a1, b1, c1, d1
                if same == 0:
                    break
            for z in range(value.shape[1]):
                out[i, z] += leaf[a, z]
                if i + 1 < n:
                    out[i + 1, z] += leaf[b, z]
                if i + 2 < n:
                    out[i + 2, z] += leaf[c, z]
                if i + 3 < n:
                    out[i + 3, z] += leaf[d, z]


@lean_helper
def walk_row(tree, at, sets, row, path):
    """The nodes that a row comes through, the leaf last, into path[:d]; returns d."""
    k = np.int64(0)
    d = 0
    while True:
        w = tree[k]
        if (w >> 32) == k:
            return d
        code = np.int64(row[(w >> 12) & 0xFFFFF])
        k = (w >> 32) + (0 if goes_left(w, code, sets, at[k] if w & 512 else 0) else 1)
        path[d] = k
        d += 1


@lean_helper
def leaf_with(tree, at, sets, row, f, code, k):
    """The leaf below node k when column f holds `code`."""
    while True:
        w = tree[k]
        if (w >> 32) == k:
            return k
        j = (w >> 12) & 0xFFFFF
        own = code if j == f else np.int64(row[j])
        k = (w >> 32) + (0 if goes_left(w, own, sets, at[k] if w & 512 else 0) else 1)


@lean_helper
def add_changes_of_row(tree, at, sets, leaf, row, foreign, i, path, stamp, mark, gone, change, hit):
    """One row in one tree: how its leaf value changes for every column and shuffle. Returns its own leaf.

    Only columns on the row's path matter, and of those only foreign codes that turn off somewhere; the walk goes on from the
    other child of the first node where they do.
    foreign : uint8 (shuffles, rows, p), the codes that row i would take, each column by itself.
    change : float64 (p x shuffles, t), hit : uint8 (p x shuffles,), of this row. Modified in place.
    """
    shuffles = foreign.shape[0]
    d = walk_row(tree, at, sets, row, path)
    end = path[d - 1] if d else np.int64(0)
    full = (ONE << np.uint64(shuffles)) - ONE if shuffles < 64 else ~np.uint64(0)
    k = np.int64(0)
    for q in range(d):
        w = tree[k]
        f = (w >> 12) & 0xFFFFF
        if stamp[f] != mark:
            stamp[f] = mark
            gone[f] = np.uint64(0)
        if gone[f] != full:
            own = path[q] - (w >> 32)
            for r in range(shuffles):
                bit = ONE << np.uint64(r)
                if gone[f] & bit != np.uint64(0):
                    continue
                code = np.int64(foreign[r, i, f])
                side = 0 if goes_left(w, code, sets, at[k] if w & 512 else 0) else 1
                if side == own:
                    continue
                gone[f] |= bit
                x = leaf_with(tree, at, sets, row, f, code, (w >> 32) + side)
                hit[f * shuffles + r] = 1
                for z in range(leaf.shape[1]):
                    change[f * shuffles + r, z] += leaf[x, z] - leaf[end, z]
        k = path[q]
    return end


@lean_kernel
def add_shuffle_changes(codes, node, first, pick, sets, value, foreign, lo, hi, change, hit, path, stamp, gone):
    """Add how the sum over trees changes, for rows lo..hi-1, when one column takes a foreign code.

    foreign : uint8 (shuffles, n, p), the codes that each row would take, at most 64 shuffles.
    change : float64 (hi - lo, p x shuffles, t). Modified in place.  The rest is room to work in.
    """
    mark = 0
    for t in range(first.size - 1):
        tree = node[first[t] : first[t + 1]]
        at = pick[first[t] : first[t + 1]]
        leaf = value[first[t] : first[t + 1]]
        for i in range(hi - lo):
            mark += 1
            add_changes_of_row(tree, at, sets, leaf, codes[lo + i], foreign, lo + i, path, stamp, mark, gone, change[i], hit[i])


@lean_helper
def row_loss(kind, y, value, z):
    """kind 0: squared; 1: log loss of one of several classes; 2: log loss of two classes. Of one column of the targets."""
    if kind == 0:
        return (value - y) * (value - y)
    p = min(max(value, 1e-6), 1.0 - 1e-6)
    if kind == 1:
        return -y * np.log(p)
    return -y * np.log(p) - (1.0 - y) * np.log(1.0 - p)


@lean_kernel
def out_of_bag_drops(
    codes, node, first, pick, sets, value, in_bag, foreign, chosen, y, weight, kind, change, hit, base, path, stamp, gone, drops
):
    """Add to drops[s, j] the rise in loss over the chosen rows when column j takes a foreign code, each row predicted by the
    trees that did not learn from it.

    foreign : uint8 (shuffles, chosen rows, p).

    in_bag : uint8 (trees, chosen rows).  chosen : int64 rows, one block.  y : float64 (n, t).  weight : float64 (n,).
    change : float64 (rows, p x shuffles, t), hit : uint8, base : float64 (rows, t + 1); cleared here.
    """
    shuffles = foreign.shape[0]
    p = codes.shape[1]
    width = value.shape[1]
    m = chosen.size
    for i in range(m):
        for z in range(width + 1):
            base[i, z] = 0.0
        for j in range(p * shuffles):
            hit[i, j] = 0
            for z in range(width):
                change[i, j, z] = 0.0
    mark = 0
    for f in range(p):
        stamp[f] = 0
    for t in range(first.size - 1):
        tree = node[first[t] : first[t + 1]]
        at = pick[first[t] : first[t + 1]]
        leaf = value[first[t] : first[t + 1]]
        for i in range(m):
            if in_bag[t, i]:
                continue
            mark += 1
            end = add_changes_of_row(tree, at, sets, leaf, codes[chosen[i]], foreign, i, path, stamp, mark, gone, change[i], hit[i])
            for z in range(width):
                base[i, z] += leaf[end, z]
            base[i, width] += 1.0
    for i in range(m):
        trees = base[i, width]
        if trees == 0.0:
            continue
        for j in range(p * shuffles):
            if hit[i, j] == 0:
                continue
            rise = 0.0
            for z in range(width):
                target = y[chosen[i], z]
                rise += row_loss(kind, target, (base[i, z] + change[i, j, z]) / trees, z) - row_loss(kind, target, base[i, z] / trees, z)
            drops[j % shuffles, j // shuffles] += rise * weight[chosen[i]]


@kernel
def node_means(node, first, pick, value, weight, mean):
    """Weight and mean value of every node from its leaves. A child always stands behind its parent.

    weight : float64 (nodes,).  mean : float64 (nodes, t). Both modified in place.
    """
    for t in range(first.size - 1):
        lo = first[t]
        for k in range(first[t + 1] - 1, lo - 1, -1):
            child = lo + (node[k] >> 32)
            if child == k:
                weight[k] = max(float(pick[k]), 1.0)
                for z in range(value.shape[1]):
                    mean[k, z] = value[k, z]
                continue
            a, b = weight[child], weight[child + 1]
            weight[k] = a + b
            for z in range(value.shape[1]):
                mean[k, z] = (a * mean[child, z] + b * mean[child + 1, z]) / (a + b)


@kernel
def add_steps(codes, node, first, pick, sets, mean, out):
    """Add to out[i, column] what the splits on a column on row i's way changed in its mean, over all trees.

    codes : uint8 (n, p).  mean : float64 (nodes, t).  out : float64 (n, p, t). Modified in place.
    """
    for t in range(first.size - 1):
        lo = first[t]
        for i in range(codes.shape[0]):
            k = np.int64(0)
            while True:
                w = node[lo + k]
                if (w >> 32) == k:
                    break
                f = (w >> 12) & 0xFFFFF
                at = pick[lo + k] if w & 512 else 0
                child = (w >> 32) + (0 if goes_left(w, np.int64(codes[i, f]), sets, at) else 1)
                for z in range(mean.shape[1]):
                    out[i, f, z] += mean[lo + child, z] - mean[lo + k, z]
                k = child


@lean_helper
def product(m, one, zero, terms):
    """terms[s]: coefficient of t^s in the product over j of (zero_j + one_j t)."""
    terms[0] = 1.0
    for j in range(m):
        terms[j + 1] = terms[j] * one[j]
        for s in range(j, 0, -1):
            terms[s] = terms[s] * zero[j] + terms[s - 1] * one[j]
        terms[0] *= zero[j]


@lean_helper
def without(m, one, zero, terms, chances):
    """Sum over s of the chances times the coefficients of the product with one factor (zero + one t) divided out."""
    total = 0.0
    if one == 0.0:
        for s in range(m):
            total += terms[s] * chances[s]
        return total / zero
    q = 0.0
    for s in range(m - 1, -1, -1):
        q = terms[s + 1] - zero * q
        total += q * chances[s]
    return total


@kernel
def add_shapley(codes, node, first, pick, sets, value, weight, chances, out):
    """Add Shapley values of every row and column over all trees, a column that is not known followed down both sides by weight.

    chances : float64 (longest + 1, longest + 1), |S|! (m − |S| − 1)! / m! at [m, |S|].
    out : float64 (n, p, t). Modified in place.  Source: Lundberg et al., 2020, leaf by leaf.
    """
    n = codes.shape[0]
    deep = chances.shape[0] + 1
    column = np.empty(deep, np.int64)
    zero = np.empty(deep)
    one = np.empty(deep)
    terms = np.empty(deep + 1)
    way = np.empty(deep + 1, np.int64)
    for t in range(first.size - 1):
        lo, size = first[t], first[t + 1] - first[t]
        parent = np.full(size, -1, np.int64)
        for k in range(size):
            child = node[lo + k] >> 32
            if child != k:
                parent[child] = k
                parent[child + 1] = k
        for leaf in range(size):
            if (node[lo + leaf] >> 32) != leaf:
                continue
            d = 0
            k = leaf
            while parent[k] >= 0:
                way[d] = k
                d += 1
                k = parent[k]
            m = 0
            for q in range(d):
                up = parent[way[q]]
                f = (node[lo + up] >> 12) & 0xFFFFF
                at = -1
                for j in range(m):
                    if column[j] == f:
                        at = j
                if at < 0:
                    at = m
                    column[m] = f
                    zero[m] = 1.0
                    m += 1
                zero[at] *= weight[lo + way[q]] / weight[lo + up]
            for i in range(n):
                for j in range(m):
                    one[j] = 1.0
                for q in range(d):
                    up = parent[way[q]]
                    w = node[lo + up]
                    f = (w >> 12) & 0xFFFFF
                    side = 0 if goes_left(w, np.int64(codes[i, f]), sets, pick[lo + up] if w & 512 else 0) else 1
                    if (w >> 32) + side != way[q]:
                        for j in range(m):
                            if column[j] == f:
                                one[j] = 0.0
                product(m, one, zero, terms)
                for j in range(m):
                    part = without(m, one[j], zero[j], terms, chances[m]) * (one[j] - zero[j])
                    for z in range(value.shape[1]):
                        out[i, column[j], z] += part * value[lo + leaf, z]
