"""Walking grown trees: predictions, and what they become when one column takes another row's code.

What each column brings to each prediction of grown trees: steps along the path, and Shapley values over all leaves.
"""

import numpy as np

from libc.math cimport log
from libc.stdint cimport int32_t, int64_t, uint8_t, uint32_t, uint64_t

cpdef enum:
    DEEPEST = 1000  # longest path from root to leaf that room is made for


cdef inline uint32_t step(int64_t word, const uint8_t *codes, int64_t at, const uint64_t[:, ::1] sets) noexcept nogil:
    """The child that a row goes to; a leaf leads to itself."""
    cdef int64_t code
    code = <int64_t>(codes[<uint32_t>((word >> 12) & 0xFFFFF)])
    return <uint32_t>((word >> 32) + (0 if goes_left(word, code, sets, at) else 1))


def add_predictions(
    const uint8_t[:, ::1] codes, const int64_t[::1] node, const int64_t[::1] first, const int32_t[::1] pick, const uint64_t[:, ::1] sets,
    const double[:, ::1] value, double[:, ::1] out
):
    """Sum of leaf values over trees; four rows walk side by side.

    codes : uint8 (n, p).  first : int64 (trees + 1,), where each tree's nodes begin.  value : float64 (nodes, t).
    out : float64 (n, t). Modified in place.
    """
    cdef int64_t n, t, i, i1, i2, i3, z, w0, w1, w2, w3
    cdef const double[:, ::1] leaf
    cdef uint32_t a, b, c, d, a1, b1, c1, d1
    cdef uint64_t same
    cdef const int64_t *tree
    cdef const int32_t *at
    with nogil:
        n = codes.shape[0]
        for t in range(first.shape[0] - 1):
            tree = &node[first[t]]
            at = &pick[first[t]]
            leaf = value[first[t] : first[t + 1]]
            for i in range(0, n, 4):
                i1 = min(i + 1, n - 1)
                i2 = min(i + 2, n - 1)
                i3 = min(i + 3, n - 1)
                a = b = c = d = <uint32_t>0
                while True:
                    w0, w1, w2, w3 = tree[a], tree[b], tree[c], tree[d]
                    a1 = step(w0, &codes[i, 0], at[a] if w0 & 512 else 0, sets)
                    b1 = step(w1, &codes[i1, 0], at[b] if w1 & 512 else 0, sets)
                    c1 = step(w2, &codes[i2, 0], at[c] if w2 & 512 else 0, sets)
                    d1 = step(w3, &codes[i3, 0], at[d] if w3 & 512 else 0, sets)
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


cdef inline int64_t walk_row(
    const int64_t *tree, const int32_t *at, const uint64_t[:, ::1] sets, const uint8_t *row, int64_t *path
) noexcept nogil:
    """The nodes that a row comes through, the leaf last, into path[:d]; returns d."""
    cdef int64_t k, d, w, code
    k = 0
    d = 0
    while True:
        w = tree[k]
        if (w >> 32) == k:
            return d
        code = <int64_t>(row[(w >> 12) & 0xFFFFF])
        k = (w >> 32) + (0 if goes_left(w, code, sets, at[k] if w & 512 else 0) else 1)
        path[d] = k
        d += 1


cdef inline int64_t leaf_with(
    const int64_t *tree, const int32_t *at, const uint64_t[:, ::1] sets, const uint8_t *row, int64_t f, int64_t code, int64_t k
) noexcept nogil:
    """The leaf below node k when column f holds `code`."""
    cdef int64_t w, j, own
    while True:
        w = tree[k]
        if (w >> 32) == k:
            return k
        j = (w >> 12) & 0xFFFFF
        own = code if j == f else <int64_t>(row[j])
        k = (w >> 32) + (0 if goes_left(w, own, sets, at[k] if w & 512 else 0) else 1)


cdef inline int64_t add_changes_of_row(
    const int64_t *tree, const int32_t *at, const uint64_t[:, ::1] sets, const double[:, ::1] leaf, const uint8_t *row,
    const uint8_t[:, :, ::1] foreign, int64_t i, int64_t *path, int64_t *stamp, int64_t mark, uint64_t *gone, double[:, ::1] change,
    uint8_t *hit
) noexcept nogil:
    """One row in one tree: how its leaf value changes for every column and shuffle. Returns its own leaf.

    Only columns on the row's path matter, and of those only foreign codes that turn off somewhere; the walk goes on from the
    other child of the first node where they do.
    foreign : uint8 (shuffles, rows, p), the codes that row i would take, each column by itself.
    change : float64 (p x shuffles, t), hit : uint8 (p x shuffles,), of this row. Modified in place.
    """
    cdef int64_t shuffles, d, end, k, q, w, f, own, r, code, side, x, z
    cdef uint64_t full, bit
    shuffles = foreign.shape[0]
    d = walk_row(tree, at, sets, row, path)
    end = path[d - 1] if d else <int64_t>0
    full = (<uint64_t>1 << <uint64_t>shuffles) - <uint64_t>1 if shuffles < 64 else ~<uint64_t>0
    k = 0
    for q in range(d):
        w = tree[k]
        f = (w >> 12) & 0xFFFFF
        if stamp[f] != mark:
            stamp[f] = mark
            gone[f] = <uint64_t>0
        if gone[f] != full:
            own = path[q] - (w >> 32)
            for r in range(shuffles):
                bit = <uint64_t>1 << <uint64_t>r
                if gone[f] & bit != <uint64_t>0:
                    continue
                code = <int64_t>(foreign[r, i, f])
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


def add_shuffle_changes(
    const uint8_t[:, ::1] codes, const int64_t[::1] node, const int64_t[::1] first, const int32_t[::1] pick, const uint64_t[:, ::1] sets,
    const double[:, ::1] value, const uint8_t[:, :, ::1] foreign, int64_t lo, int64_t hi, double[:, :, ::1] change, uint8_t[:, ::1] hit,
    int64_t[::1] path, int64_t[::1] stamp, uint64_t[::1] gone
):
    """Add how the sum over trees changes, for rows lo..hi-1, when one column takes a foreign code.

    foreign : uint8 (shuffles, n, p), the codes that each row would take, at most 64 shuffles.
    change : float64 (hi - lo, p x shuffles, t). Modified in place.  The rest is room to work in.
    """
    cdef int64_t mark, t, i
    cdef const double[:, ::1] leaf
    cdef const int64_t *tree
    cdef const int32_t *at
    with nogil:
        mark = 0
        for t in range(first.shape[0] - 1):
            tree = &node[first[t]]
            at = &pick[first[t]]
            leaf = value[first[t] : first[t + 1]]
            for i in range(hi - lo):
                mark += 1
                add_changes_of_row(
                    tree, at, sets, leaf, &codes[lo + i, 0], foreign, lo + i, &path[0], &stamp[0], mark, &gone[0], change[i], &hit[i, 0]
                )


cdef inline double row_loss(int64_t kind, double y, double value, int64_t z) noexcept nogil:
    """kind 0: squared; 1: log loss of one of several classes; 2: log loss of two classes. Of one column of the targets."""
    cdef double p
    if kind == 0:
        return (value - y) * (value - y)
    p = min(max(value, 1e-6), 1.0 - 1e-6)
    if kind == 1:
        return -y * log(p)
    return -y * log(p) - (1.0 - y) * log(1.0 - p)


def out_of_bag_drops(
    const uint8_t[:, ::1] codes, const int64_t[::1] node, const int64_t[::1] first, const int32_t[::1] pick, const uint64_t[:, ::1] sets,
    const double[:, ::1] value, const uint8_t[:, ::1] in_bag, const uint8_t[:, :, ::1] foreign, const int64_t[::1] chosen,
    const double[:, ::1] y, const double[::1] weight, int64_t kind, double[:, :, ::1] change, uint8_t[:, ::1] hit, double[:, ::1] base,
    int64_t[::1] path, int64_t[::1] stamp, uint64_t[::1] gone, double[:, ::1] drops
):
    """Add to drops[s, j] the rise in loss over the chosen rows when column j takes a foreign code, each row predicted by the
    trees that did not learn from it.

    foreign : uint8 (shuffles, chosen rows, p).

    in_bag : uint8 (trees, chosen rows).  chosen : int64 rows, one block.  y : float64 (n, t).  weight : float64 (n,).
    change : float64 (rows, p x shuffles, t), hit : uint8, base : float64 (rows, t + 1); cleared here.
    """
    cdef int64_t shuffles, p, width, m, i, mark, f, t, z, j, end
    cdef const double[:, ::1] leaf
    cdef double trees, rise, target
    cdef const int64_t *tree
    cdef const int32_t *at
    with nogil:
        shuffles = foreign.shape[0]
        p = codes.shape[1]
        width = value.shape[1]
        m = chosen.shape[0]
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
        for t in range(first.shape[0] - 1):
            tree = &node[first[t]]
            at = &pick[first[t]]
            leaf = value[first[t] : first[t + 1]]
            for i in range(m):
                if in_bag[t, i]:
                    continue
                mark += 1
                end = add_changes_of_row(
                    tree, at, sets, leaf, &codes[chosen[i], 0], foreign, i, &path[0], &stamp[0], mark, &gone[0], change[i], &hit[i, 0]
                )
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
                    rise += row_loss(
                        kind, target, (base[i, z] + change[i, j, z]) / trees, z) - row_loss(kind, target, base[i, z] / trees, z
                    )
                drops[j % shuffles, j // shuffles] += rise * weight[chosen[i]]


def node_means(
    const int64_t[::1] node, const int64_t[::1] first, const int32_t[::1] pick, const double[:, ::1] value, double[::1] weight,
    double[:, ::1] mean
):
    """Weight and mean value of every node from its leaves. A child always stands behind its parent.

    weight : float64 (nodes,).  mean : float64 (nodes, t). Both modified in place.
    """
    cdef int64_t t, lo, k, child, z
    cdef double a, b
    with nogil:
        for t in range(first.shape[0] - 1):
            lo = first[t]
            for k in range(first[t + 1] - 1, lo - 1, -1):
                child = lo + (node[k] >> 32)
                if child == k:
                    weight[k] = max(<double>(pick[k]), 1.0)
                    for z in range(value.shape[1]):
                        mean[k, z] = value[k, z]
                    continue
                a, b = weight[child], weight[child + 1]
                weight[k] = a + b
                for z in range(value.shape[1]):
                    mean[k, z] = (a * mean[child, z] + b * mean[child + 1, z]) / (a + b)


def add_steps(
    const uint8_t[:, ::1] codes, const int64_t[::1] node, const int64_t[::1] first, const int32_t[::1] pick, const uint64_t[:, ::1] sets,
    const double[:, ::1] mean, double[:, :, ::1] out
):
    """Add to out[i, column] what the splits on a column on row i's way changed in its mean, over all trees.

    codes : uint8 (n, p).  mean : float64 (nodes, t).  out : float64 (n, p, t). Modified in place.
    """
    cdef int64_t t, lo, i, k, w, f, at, child, z
    with nogil:
        for t in range(first.shape[0] - 1):
            lo = first[t]
            for i in range(codes.shape[0]):
                k = 0
                while True:
                    w = node[lo + k]
                    if (w >> 32) == k:
                        break
                    f = (w >> 12) & 0xFFFFF
                    at = pick[lo + k] if w & 512 else 0
                    child = (w >> 32) + (0 if goes_left(w, <int64_t>(codes[i, f]), sets, at) else 1)
                    for z in range(mean.shape[1]):
                        out[i, f, z] += mean[lo + child, z] - mean[lo + k, z]
                    k = child


cdef inline void product(int64_t m, const double *one, const double *zero, double *terms) noexcept nogil:
    """terms[s]: coefficient of t^s in the product over j of (zero_j + one_j t)."""
    cdef int64_t j, s
    terms[0] = 1.0
    for j in range(m):
        terms[j + 1] = terms[j] * one[j]
        for s in range(j, 0, -1):
            terms[s] = terms[s] * zero[j] + terms[s - 1] * one[j]
        terms[0] *= zero[j]


cdef inline double without(int64_t m, double one, double zero, const double *terms, const double *chances) noexcept nogil:
    """Sum over s of the chances times the coefficients of the product with one factor (zero + one t) divided out."""
    cdef double total, q
    cdef int64_t s
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


def add_shapley(
    const uint8_t[:, ::1] codes, const int64_t[::1] node, const int64_t[::1] first, const int32_t[::1] pick, const uint64_t[:, ::1] sets,
    const double[:, ::1] value, const double[::1] weight, const double[:, ::1] chances, double[:, :, ::1] out
):
    """Add Shapley values of every row and column over all trees, a column that is not known followed down both sides by weight.

    chances : float64 (longest + 1, longest + 1), |S|! (m − |S| − 1)! / m! at [m, |S|].
    out : float64 (n, p, t). Modified in place.  Source: Lundberg et al., 2020, leaf by leaf.
    """
    cdef int64_t n, t, k, leaf, lo, size, child, d, m, q, i, up, f, at, j, w, side, z
    cdef int64_t[::1] column = np.empty(chances.shape[0] + 1, np.int64), way = np.empty(chances.shape[0] + 2, np.int64)
    cdef int64_t[::1] parent = np.empty(max(np.diff(first), default=0), np.int64)
    cdef double[::1] zero = np.empty(chances.shape[0] + 1), one = np.empty(chances.shape[0] + 1), terms = np.empty(chances.shape[0] + 2)
    cdef double part
    with nogil:
        n = codes.shape[0]
        for t in range(first.shape[0] - 1):
            lo, size = first[t], first[t + 1] - first[t]
            for k in range(size):
                parent[k] = -1
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
                        side = 0 if goes_left(w, <int64_t>(codes[i, f]), sets, pick[lo + up] if w & 512 else 0) else 1
                        if (w >> 32) + side != way[q]:
                            for j in range(m):
                                if column[j] == f:
                                    one[j] = 0.0
                    product(m, &one[0], &zero[0], &terms[0])
                    for j in range(m):
                        part = without(m, one[j], zero[j], &terms[0], &chances[m, 0]) * (one[j] - zero[j])
                        for z in range(value.shape[1]):
                            out[i, column[j], z] += part * value[lo + leaf, z]
