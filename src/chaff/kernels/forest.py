"""Growing and walking regression trees on binned columns.

One form serves every task: the target is a table of columns (a number, or one indicator per class), the gain is the
drop in squared error summed over them, which for indicators is the Gini gain. A node sends a code to the left when its
bit is set in a 256-bit mask: thresholds, missing cells and subsets of levels are then the same test.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel
from chaff.kernels.tree_walks import goes_left

SMALL = 20  # rows up to which sorting a node's codes beats clearing and scanning a histogram
ONE = np.uint64(1)


@kernel
def mix(state):
    """The next number of a splitmix64 stream (Steele, Lea and Flood 2014): returns (state, draw)."""
    state = state + np.uint64(0x9E3779B97F4A7C15)
    z = state
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return state, z ^ (z >> np.uint64(31))


@kernel
def draw_columns(order, want, state):
    """Move `want` columns drawn without replacement to the front of `order`. Modified in place."""
    p = order.size
    for k in range(want):
        state, z = mix(state)
        j = k + np.int64(z % np.uint64(p - k))
        t = order[k]
        order[k] = order[j]
        order[j] = t
    return state


@kernel
def gain_of(left, total, targets):
    """Drop in squared error: sum over targets of (s m - t c)^2 / (m c (m - c)); exactly 0 without signal.

    left, total : float64 (2 + targets,): rows, weight, weighted sums.
    """
    c = left[1]
    m = total[1]
    rest = m - c
    if c <= 0.0 or rest <= 0.0:
        return 0.0
    d = 0.0
    for t in range(2, 2 + targets):
        x = left[t] * m - total[t] * c
        d += x * x
    return d / (m * c * rest)


@kernel
def scan_ordered_one(H, sequence, length, total, leaf_rows, best):
    """`scan_ordered` for a single target, in scalars, so that nothing is looped over."""
    where = -1
    rows = 0.0
    c = 0.0
    s = 0.0
    m = total[1]
    sm = total[2]
    most = total[0] - leaf_rows
    for k in range(length - 1):
        b = sequence[k]
        if H[b, 0] == 0.0:
            continue
        rows += H[b, 0]
        c += H[b, 1]
        s += H[b, 2]
        if rows < leaf_rows:
            continue
        if rows > most:
            break
        x = s * m - sm * c
        below = m * c * (m - c)
        if below > 0.0 and x * x > best * below:
            best = x * x / below
            where = k + 1
    return best, where


@kernel
def sort_codes(codes, f, rows, lo, hi, keys):
    """keys[:hi - lo] = (code << 32 | place in the node), ascending, by insertion."""
    for i in range(hi - lo):
        x = (np.int64(codes[rows[lo + i], f]) << 32) | i
        k = i
        while k > 0 and keys[k - 1] > x:
            keys[k] = keys[k - 1]
            k -= 1
        keys[k] = x


@kernel
def scan_sorted_one(keys, count, values, total, leaf_rows, best):
    """`scan_sorted` for a single target."""
    cut = -1
    seen = 0.0
    c = 0.0
    s = 0.0
    m = total[1]
    sm = total[2]
    most = total[0] - leaf_rows
    for i in range(count - 1):
        v = values[keys[i] & 0xFFFFFFFF]
        seen += v[0]
        c += v[1]
        s += v[2]
        if (keys[i] >> 32) == (keys[i + 1] >> 32) or seen < leaf_rows:
            continue
        if seen > most:
            break
        d = s * m - sm * c
        below = m * c * (m - c)
        if below > 0.0 and d * d > best * below:
            best = d * d / below
            cut = keys[i] >> 32
    return best, cut


@kernel
def scan_ordered(H, sequence, length, total, leaf_rows, targets, left, best):
    """Best cut of a sequence of codes: returns (gain, how many of the sequence go left); gain <= best means none."""
    if targets == 1:
        return scan_ordered_one(H, sequence, length, total, leaf_rows, best)
    where = -1
    for t in range(2 + targets):
        left[t] = 0.0
    for k in range(length - 1):
        b = sequence[k]
        if H[b, 0] == 0.0:
            continue
        for t in range(2 + targets):
            left[t] += H[b, t]
        if left[0] < leaf_rows:
            continue
        if total[0] - left[0] < leaf_rows:
            break
        g = gain_of(left, total, targets)
        if g > best:
            best = g
            where = k + 1
    return best, where


@kernel
def order_levels(H, levels, total, targets, sequence, key):
    """Codes with rows in this node, ordered by the mean of the node's commonest target. Returns how many."""
    lead = 0
    for t in range(1, targets):
        if total[2 + t] > total[2 + lead]:
            lead = t
    length = 0
    for b in range(levels):
        if H[b, 0] == 0.0:
            continue
        x = H[b, 2 + lead] / H[b, 1] if H[b, 1] > 0.0 else 0.0
        k = length
        while k > 0 and key[k - 1] > x:
            key[k] = key[k - 1]
            sequence[k] = sequence[k - 1]
            k -= 1
        key[k] = x
        sequence[k] = b
        length += 1
    return length


@kernel
def fill_histograms(codes, order, want, rows, lo, hi, values, levels, H):
    """Histograms of all drawn columns in one pass over the node's rows.

    A row's codes lie on a cache line or two and its values are read once, which beats a pass per column.
    H : float64 (>= want, 256, 2 + targets). The codes in use are cleared first.
    """
    width = values.shape[1]
    for q in range(want):
        H[q, : levels[order[q]]] = 0.0
    if width == 3:
        for i in range(lo, hi):
            code = codes[rows[i]]
            v0 = values[i, 0]
            v1 = values[i, 1]
            v2 = values[i, 2]
            for q in range(want):
                h = H[q, code[order[q]]]
                h[0] += v0
                h[1] += v1
                h[2] += v2
        return
    for i in range(lo, hi):
        code = codes[rows[i]]
        for q in range(want):
            h = H[q, code[order[q]]]
            for t in range(width):
                h[t] += values[i, t]


@kernel
def scan_sorted(keys, count, values, targets, total, leaf_rows, left, best):
    """Small node, numeric column: scan prefixes of the sorted codes. Returns (gain, last code on the left).

    values : float64 (count, 2 + targets), the node's own.
    """
    if targets == 1:
        return scan_sorted_one(keys, count, values, total, leaf_rows, best)
    cut = -1
    for t in range(2 + targets):
        left[t] = 0.0
    for i in range(count - 1):
        k = keys[i] & 0xFFFFFFFF
        for t in range(2 + targets):
            left[t] += values[k, t]
        if (keys[i] >> 32) == (keys[i + 1] >> 32) or left[0] < leaf_rows:
            continue
        if total[0] - left[0] < leaf_rows:
            break
        g = gain_of(left, total, targets)
        if g > best:
            best = g
            cut = keys[i] >> 32
    return best, cut


@kernel
def set_bits(mask, sequence, lo, hi):
    for k in range(lo, hi):
        b = sequence[k]
        mask[b >> 6] |= ONE << np.uint64(b & 63)


@kernel
def scan_histogram(H, size, category, targets, total, leaf_rows, sequence, key, left, best):
    """Best split of one column from its histogram: returns (gain, how many of `sequence` go left, or -1)."""
    if category:
        count = order_levels(H, size, total, targets, sequence, key)
        return scan_ordered(H, sequence, count, total, leaf_rows, targets, left, best)
    for b in range(size):
        sequence[b] = b
    g, length = scan_ordered(H, sequence, size, total, leaf_rows, targets, left, best)
    if H[0, 0] > 0.0:  # code 0 is "missing": try it on the right as well
        for b in range(size - 1):
            sequence[b] = b + 1
        sequence[size - 1] = 0
        g2, length2 = scan_ordered(H, sequence, size, total, leaf_rows, targets, left, g)
        if length2 >= 0:
            return g2, length2
        for b in range(size):
            sequence[b] = b
    return g, length


@kernel
def split_node(codes, rows, lo, hi, values, targets, levels, category, order, want, total, leaf_rows, H, sequence, key, keys, left, mask):
    """Best split of one node over the drawn columns: returns (feature or -1, gain) and fills `mask` (4 words)."""
    best = 0.0
    feature = -1
    small = hi - lo <= SMALL
    if not small:
        fill_histograms(codes, order, want, rows, lo, hi, values, levels, H)
    for q in range(want):
        f = order[q]
        size = levels[f]
        if size < 2:
            continue
        if small and not category[f]:
            sort_codes(codes, f, rows, lo, hi, keys)
            g, cut = scan_sorted(keys, hi - lo, values[lo:hi], targets, total, leaf_rows, left, best)
            length = cut + 1 if cut >= 0 else -1
            for b in range(length):
                sequence[b] = b
        else:
            if small:
                fill_histograms(codes, order[q : q + 1], 1, rows, lo, hi, values, levels, H[q : q + 1])
            g, length = scan_histogram(H[q], size, category[f], targets, total, leaf_rows, sequence, key, left, best)
        if length >= 0:
            best = g
            feature = f
            for w in range(4):
                mask[w] = np.uint64(0)
            set_bits(mask, sequence, 0, length)
    return feature, best


@kernel
def partition_rows(codes, f, mask, category, rows, values, spare, spare_values, lo, hi):
    """Move the rows that go left, and their values, to the front of [lo:hi]; returns where the right ones begin.

    Codes that no row of this node has are settled in `mask` as well: where the order says nothing of them (levels, and
    missing in a number) they go with the larger side.
    """
    a = lo
    c = 0
    width = values.shape[1]
    left = np.zeros(4, np.uint64)
    seen = np.zeros(4, np.uint64)
    for i in range(lo, hi):
        r = rows[i]
        b = codes[r, f]
        bit = ONE << np.uint64(b & 63)
        seen[b >> 6] |= bit
        if goes_left(mask, b):
            left[b >> 6] |= bit
            rows[a] = r
            for t in range(width):
                values[a, t] = values[i, t]
            a += 1
        else:
            spare[c] = r
            for t in range(width):
                spare_values[c, t] = values[i, t]
            c += 1
    for i in range(c):
        rows[a + i] = spare[i]
        for t in range(width):
            values[a + i, t] = spare_values[i, t]
    larger_left = a - lo >= hi - a
    if category:
        for w in range(4):
            mask[w] = mask[w] | ~seen[w] if larger_left else left[w]
    elif seen[0] & ONE == 0:
        mask[0] = mask[0] | ONE if larger_left else mask[0] & ~ONE
    return a


@kernel
def push(stack, top, lo, hi, node, depth):
    stack[top, 0] = lo
    stack[top, 1] = hi
    stack[top, 2] = node
    stack[top, 3] = depth
    return top + 1


@kernel
def drawn_rows(times, weights, targets):
    """(rows that were drawn, their (times, weight, weighted targets)): rows of a node are neighbours, and so are their values,
    since both move together."""
    t_count = targets.shape[1]
    m = 0
    for i in range(times.size):
        if times[i] > 0.0:
            m += 1
    rows = np.empty(m, np.int64)
    values = np.empty((m, 2 + t_count))
    m = 0
    for i in range(times.size):
        if times[i] > 0.0:
            rows[m] = i
            values[m, 0] = times[i]
            values[m, 1] = times[i] * weights[i]
            for t in range(t_count):
                values[m, 2 + t] = values[m, 1] * targets[i, t]
            m += 1
    return rows, values


@kernel
def grow_tree(
    codes,
    targets,
    weights,
    times,
    levels,
    category,
    want,
    leaf_rows,
    deepest,
    state,
    node_feature,
    node_left,
    node_right,
    node_mask,
    node_value,
    gains,
):
    """Grow one tree. Returns the number of nodes.

    codes : uint8 (n, p) row-major, code 0 = missing.  targets : float64 (n, t).  weights : float64 (n,).
    times : float64 (n,), how often the bootstrap drew the row (0 leaves it out).
    levels : int64 (p,), codes in use per column.  category : bool (p,).  state : uint64, the tree's own stream.
    node_* : sized for the most nodes there can be; node_feature is -1 at a leaf; node_value holds weight and weighted sums.
    gains : float64 (p,). All filled in place.
    """
    p = codes.shape[1]
    t_count = targets.shape[1]
    rows, values = drawn_rows(times, weights, targets)
    m = rows.size
    spare = np.empty(m, np.int64)
    spare_values = np.empty((m, 2 + t_count))
    H = np.empty((want, 256, 2 + t_count))
    sequence = np.empty(256, np.int64)
    key = np.empty(256)
    keys = np.empty(SMALL + 1, np.int64)
    left = np.empty(2 + t_count)
    total = np.empty(2 + t_count)
    mask = np.empty(4, np.uint64)
    order = np.arange(p)
    stack = np.empty((node_feature.size + 2, 4), np.int64)
    top = push(stack, 0, 0, m, 0, 0)
    nodes = 1
    while top > 0:
        top -= 1
        lo = stack[top, 0]
        hi = stack[top, 1]
        node = stack[top, 2]
        depth = stack[top, 3]
        for t in range(2 + t_count):
            total[t] = 0.0
        for i in range(lo, hi):
            for t in range(2 + t_count):
                total[t] += values[i, t]
        node_feature[node] = -1
        for t in range(1 + t_count):
            node_value[node, t] = total[1 + t]
        if total[0] < 2 * leaf_rows or depth >= deepest:
            continue
        state = draw_columns(order, want, state)
        f, g = split_node(
            codes, rows, lo, hi, values, t_count, levels, category, order, want, total, leaf_rows, H, sequence, key, keys, left, mask
        )
        if f < 0:
            continue
        a = partition_rows(codes, f, mask, category[f], rows, values, spare, spare_values, lo, hi)
        gains[f] += g
        node_feature[node] = f
        node_left[node] = nodes
        node_right[node] = nodes + 1
        for w in range(4):
            node_mask[node, w] = mask[w]
        top = push(stack, top, lo, a, nodes, depth + 1)
        top = push(stack, top, a, hi, nodes + 1, depth + 1)
        nodes += 2
    return nodes


@kernel
def draw_bootstrap(state, draws, times):
    """Draw that many rows with replacement; times[i] counts how often row i came. Modified in place."""
    n = times.size
    times[:] = 0.0
    for _ in range(draws):
        state, z = mix(state)
        times[np.int64(z % np.uint64(n))] += 1.0
    return state
