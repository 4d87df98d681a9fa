"""Best sets of each size by branch and bound on training error, in the inverse form: a set is left one feature at a time.

A node is a set of which the first features are fixed and the rest may be dropped. Its children each drop one droppable feature, and
fix those before it. A set's error is a bound for everything below it. What makes it quick: the droppable features stand in the order
of what dropping them costs, dearest first, so that the largest subtrees have the worst bounds; a node carries only the rows of the
inverse that may still be dropped; and what every child would cost is known before its table is made. Source: leaps and bounds,
Furnival and Wilson, 1974; order within the tree: Gatu and Kontoghiorghes, 2006.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel


@kernel
def group_rise(W, B, first, width, targets, scratch):
    """What dropping one feature of `width` columns from `first` on adds to the error.

    W : float64 (q, q), inverse of the cross-products;  B : float64 (q, targets), coefficients. Not modified.
    scratch : float64 (>= width, >= width + targets), overwritten.
    """
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


@kernel
def note_set(size, rss, mask, best_rss, best_mask):
    """Put a set among the best of its size, if it is one. best_rss : float64 (sizes, m), ascending;  best_mask : uint64."""
    m = best_rss.shape[1]
    if rss >= best_rss[size, m - 1]:
        return
    for k in range(m):
        if best_mask[size, k] == mask and best_rss[size, k] < np.inf:
            return
    k = m - 1
    while k > 0 and best_rss[size, k - 1] > rss:
        best_rss[size, k] = best_rss[size, k - 1]
        best_mask[size, k] = best_mask[size, k - 1]
        k -= 1
    best_rss[size, k] = rss
    best_mask[size, k] = mask


@kernel
def promising(rss, rise, count, fixed, smallest, largest, best_rss):
    """Whether some size below a node could still hold a better set than is known: to come down to a size, so many of the droppable
    features have to go, and the dearest of them costs at least as much as the so-many-th cheapest.

    rise : float64 (count,), descending: what dropping each costs by itself.
    """
    m = best_rss.shape[1] - 1
    for gone in range(1, count + 1):
        size = fixed + count - gone
        if size < smallest:
            break
        if size <= largest and rss + rise[count - gone] < best_rss[size, m]:
            return True
    return False


@kernel
def drop_one(W, B, begin, widths, features, at, count, targets, work, work_b):
    """Tables after dropping the feature at place `at`, of those behind it only, into work (q', q') and work_b (q', targets)."""
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


@kernel
def settle(begin, features, rise, work, work_b, q, names, count, widths, targets, scratch):
    """Put a node's droppable features, whose tables lie in `work` in the order `names`, in the order of what dropping them costs."""
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


@kernel
def gather(W, B, begin, features, count, widths, targets, work, work_b, columns):
    """Copy the tables from `work` into the order that `settle` found; `begin` then says where each feature stands in them."""
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


@kernel
def search_parts(W, B, rss, features, begin, rise, count, fixed, at, mask, depth, widths, smallest, largest, best_rss, best_mask, most):
    """Go on with the search for at most `most` tables; returns the depth, -1 when it is over.

    W : float64 (depths, q, q);  B : float64 (depths, q, targets);  rss : float64 (depths,);  features, begin : int64 (depths, p);
    rise : float64 (depths, p);  count, fixed, at : int64 (depths,): droppable features, fixed ones, the next child;
    mask : uint64 (depths,): features of the set.  widths : int64 (p,): columns of each feature.  All are the state, modified in place.
    smallest, largest : sizes that are wanted.  best_rss, best_mask : (sizes, m), see `note_set`. Modified in place.
    """
    q, targets = B.shape[1], B.shape[2]
    p = widths.size
    widest = 1
    for f in range(p):
        widest = max(widest, widths[f])
    work = np.empty((q, q))
    work_b = np.empty((q, targets))
    scratch = np.empty((widest, widest + targets))
    columns = np.empty(q, np.int64)
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
        here = mask[depth] & ~(np.uint64(1) << np.uint64(f))
        if smallest <= size <= largest:
            note_set(size, child, here, best_rss, best_mask)
        hope = False
        for s in range(max(smallest, fixed[depth] + i), min(size - 1, largest) + 1):
            if child < best_rss[s, m]:
                hope = True
                break
        if below == 0 or not hope:
            continue
        made += 1
        to = depth + 1
        n = drop_one(W[depth], B[depth], begin[depth], widths, features[depth], i, count[depth], targets, work, work_b)
        settle(begin[to], features[to], rise[to], work, work_b, n, features[depth, i + 1 :], below, widths, targets, scratch)
        if not promising(child, rise[to], below, fixed[depth] + i, smallest, largest, best_rss):
            continue
        gather(W[to], B[to], begin[to], features[to], below, widths, targets, work, work_b, columns)
        rss[to], count[to], fixed[to], at[to], mask[to] = child, below, fixed[depth] + i, 0, here
        depth = to
    return -1
