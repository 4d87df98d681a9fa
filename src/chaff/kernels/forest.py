"""Growing trees on binned columns.

A node is one int64: left child << 32 | column << 12 | category << 9 | missing right << 8 | last code on the left. The right
child follows the left one, and a leaf leads to itself. Categories keep the codes that go left as a 256-bit set.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.histograms import (
    fill_by_columns,
    fill_by_rows,
    list_codes,
    order_levels,
    random_cut,
    scan_counts,
    scan_sums,
    scan_tiny,
    sort_tiny,
)
from chaff.kernels.jit import lean_helper, lean_kernel
from chaff.kernels.random_draws import draw_columns, draw_units
from chaff.kernels.tree_walks import CATEGORY, LEAF, MISSING_RIGHT, goes_left

ONE = np.uint64(1)
BY_COLUMNS = 1500  # nodes with more rows are read column by column, smaller ones row by row
TINY = 16  # up to so many rows (at most 64) are ordered by counting, without a histogram


@lean_helper
def clear(sums, counts, seen, classes, sequence, length, size, sparse):
    """Set what one column has filled back to zero: the codes that were met, or all."""
    if sparse:
        for i in range(length):
            b = np.int64(sequence[i])
            if classes == 1:
                sums[b] = 0
            else:
                for t in range(b * classes, b * classes + classes):
                    counts[t] = 0
        for w in range(4):
            seen[w] = np.uint64(0)
    elif classes == 1:
        for b in range(size):
            sums[b] = 0
    else:
        for b in range(size * classes):
            counts[b] = 0


@lean_helper
def has_missing(sums, counts, classes):
    if classes == 1:
        return sums[0] != 0
    total = 0
    for t in range(classes):
        total += counts[t]
    return total != 0


@lean_helper
def best_split(
    codes, columns, front, want, rows, packed, classes, levels, category, total, shift, totals, m, square, lead, leaf, tiny,
    dense, sums, counts, seen, sequence, winner, key, left, keys, values, best, at_random, least, state,
):  # fmt: skip
    """(score, place in `front` or -1, side, codes of `winner` on the left, codes in `winner`, packed left, missing cells, state)."""
    small = rows.size <= tiny
    by_columns = rows.size > BY_COLUMNS and not small
    sparse = (not by_columns) and (not small) and rows.size < dense
    if by_columns:
        fill_by_columns(columns, front, want, rows, packed, classes, sums, counts)
    elif not small:
        fill_by_rows(codes, front, want, rows, packed, classes, sparse, sums, counts, seen)
    one = np.int64(1)
    place = -1
    place_side = 0
    cut = np.int64(0)
    winner_length = 0
    left_kept = np.int64(0)
    gap = False
    for q in range(want):
        f = np.int64(front[q])
        if small and not category[f]:
            sort_tiny(codes, front[q], rows, packed, keys, values)
            best, code, side, kept, missing = scan_tiny(keys, values, rows.size, classes, total, shift, totals, m, square, leaf, left, best)
            if code >= 0:
                place, place_side, left_kept, gap = q, side, kept, missing
                winner[0] = code
            continue
        h = q if classes == 1 else 0
        g = 0 if classes == 1 else q
        if small:
            fill_by_rows(codes, front[q : q + 1], one, rows, packed, classes, sparse, sums[h:], counts[g:], seen)
        size = levels[f]
        length = list_codes(seen[q], size, sparse, sequence)
        if category[f]:
            length = order_levels(sums[h], counts[g], classes, lead, shift, length, sequence, key, least)
        missing = has_missing(sums[h], counts[g], classes)
        result = np.int64(-1)
        best_side = 0
        kept = np.int64(0)
        only = np.int64(-1)
        whole = category[f] and least > 1
        if at_random:
            state, only = random_cut(sums[h], counts[g], classes, sequence, length, missing and not category[f], state)
        for side in range(1 if category[f] or not missing else 2):
            if classes == 1:
                best, at, x = scan_sums(sums[h], sequence, side, length, total, shift, leaf, best, only, key, whole)
            else:
                best, at = scan_counts(counts[g], classes, sequence, side, length, totals, m, square, leaf, left, best, only, key, whole)
                x = np.int64(0)
            if at >= 0:
                result, best_side, kept = at, side, x
        if result >= 0:
            place, place_side, left_kept, gap = q, best_side, kept, missing
            if category[f]:
                cut = result + 1
                winner_length = length
                for i in range(length):
                    winner[i] = sequence[i]
            else:
                winner[0] = sequence[result]
        clear(sums[h], counts[g], seen[q], classes, sequence, length, size, sparse)
    return best, place, place_side, cut, winner_length, left_kept, gap, state


@lean_helper
def move_rows(codes, columns, f, word, sets, at, rows, packed, spare_rows, spare_packed, go):
    """Stable partition of rows and targets without a branch; returns how many go left."""
    c = columns[f]
    if word & CATEGORY:
        for i in range(rows.size):
            go[i] = goes_left(word, np.int64(c[rows[i]]), sets, at)
    else:
        off = np.uint8((word >> 8) & 1)
        last = np.uint8(word & 255)
        if rows.size > BY_COLUMNS:
            for i in range(rows.size):
                go[i] = np.uint8(c[rows[i]] - off) <= last
        else:
            for i in range(rows.size):
                go[i] = np.uint8(codes[rows[i], f] - off) <= last
    a = 0
    b = 0
    for i in range(rows.size):
        r = rows[i]
        v = packed[i]
        left = np.int64(go[i])
        rows[a] = r
        packed[a] = v
        spare_rows[b] = r
        spare_packed[b] = v
        a += left
        b += 1 - left
    for i in range(b):
        rows[a + i] = spare_rows[i]
        packed[a + i] = spare_packed[i]
    return a


@lean_helper
def root_rows(times, units, y, classes, shift, rows, packed, totals):
    """Rows that were drawn, with their packed targets: (how many, packed total). Class counts go into `totals`."""
    count = 0
    total = np.int64(0)
    for t in range(classes):
        totals[t] = 0
    for i in range(y.size):
        w = np.int64(times[units[i]]) if units.size else np.int64(times[i])
        if w > 0:
            rows[count] = i
            if classes == 1:
                packed[count] = (w << shift) + w * y[i]
                total += packed[count]
            else:
                packed[count] = (w << 16) + y[i]
                totals[y[i]] += w
            count += 1
    return count, total


@lean_helper
def columns_in_play(state, offered, order, in_play, front):
    """Put the columns that a tree may use at the front of `order`."""
    for i in range(offered.size):
        order[i] = offered[i]
    return draw_columns(state, order, in_play, front) if in_play < offered.size else state


@lean_helper
def mark_rows(times, units, marked, marks):
    """Which of some rows were drawn. `marks` is modified in place."""
    for i in range(marked.size):
        r = marked[i]
        marks[i] = times[units[r]] > 0 if units.size else times[r] > 0


@lean_helper
def count_left(packed, split, classes, here, left):
    """Class counts of the left side from the smaller side; returns their sum."""
    small_left = 2 * split <= packed.size
    for t in range(classes):
        left[t] = 0 if small_left else here[t]
    if small_left:
        for i in range(split):
            left[packed[i] & 65535] += packed[i] >> 16
    else:
        for i in range(split, packed.size):
            left[packed[i] & 65535] -= packed[i] >> 16
    c = np.int64(0)
    for t in range(classes):
        c += left[t]
    return c


@lean_helper
def fill_set(words, winner, lo, hi, fill):
    """Start from all codes in or out, and put codes winner[lo:hi] on the other side."""
    for w in range(4):
        words[w] = fill
    for i in range(lo, hi):
        b = np.int64(winner[i])
        words[b >> 6] ^= ONE << np.uint64(b & 63)


@lean_helper
def node_sums(total, shift, totals, classes, here, value):
    """(weight, sum of squared class counts, commonest class, whether nothing is left to tell apart); fills the node's value."""
    square = np.int64(0)
    lead = np.int64(0)
    if classes == 1:
        m = total >> shift
        rest = total - (m << shift)
        value[0] = float(rest) / float(m)
        return m, square, lead, rest == 0
    m = np.int64(0)
    for t in range(classes):
        x = totals[t]
        here[t] = x
        m += x
        square += x * x
        if x > here[lead]:
            lead = t
    for t in range(classes):
        value[t] = float(here[t]) / float(m)
    return m, square, lead, square == m * m


@lean_helper
def push(stack, top, lo, hi, k, depth, packed):
    """Put a node's rows lo..hi-1, its place, depth and packed total on the stack."""
    stack[top, 0] = lo
    stack[top, 1] = hi
    stack[top, 2] = k
    stack[top, 3] = depth
    stack[top, 4] = packed


@lean_helper
def end_leaf(node, pick, value, k, packed, shift):
    """Write a leaf of one target from its packed total."""
    m = packed >> shift
    node[k] = (np.int64(k) << 32) | LEAF
    value[k, 0] = float(packed - (m << shift)) / float(m)
    pick[k] = m


@lean_helper
def split_word(child, f, category, side, last):
    """The node of a split: see the top of this file."""
    word = (np.int64(child) << 32) | (f << 12)
    if category:
        return word | CATEGORY
    return word | MISSING_RIGHT | (np.int64(last) - 1) if side == 1 else word | np.int64(last)


@lean_kernel
def grow_trees(
    codes, columns, offered, levels, category, y, classes, shift, cumulated, guide, units, draws, in_play, want, leaf, deepest, tiny,
    dense, at_random, least, streams, marked, node, pick, sets, value, nodes, set_counts, gains, in_bag,
    times, rows, spare_rows, packed, spare_packed, go, sums, counts, seen, sequence, winner, key, keys, values, stack, totals, here,
    left, order, front,
):  # fmt: skip
    """Grow a tree for each of `streams`. The last three lines of arguments are results and room to work in.

    codes, columns : uint8 (n, p) and (p, n), code 0 = missing.  offered : int64 (q,) columns in play.  levels : int64 (p,)
    codes in use.  category : bool (p,).  y : int64 (n,) fixed-point target, or class where `classes` > 1.
    units : int64 (n,) rows that are drawn together; empty where each row stands for itself.  draws : units to draw, below 0
    without replacement.  in_play : columns that a tree may use, drawn for each.  want : of these, columns drawn a node.
    at_random : one cut a column, drawn at random.  least : rows of a level that is told apart.  streams : uint64 (trees,).
    marked : int64, rows of which is asked whether they were drawn.
    node : int64 (trees, most).  pick : int32, place of a category node's set in `sets` (…, 4).
    value : float64 (trees, most, classes), sum of weights and targets not yet smoothed.  gains : float64 (trees, p).
    in_bag : uint8 (trees, marked rows), 1 where a row was drawn.  Returns histogram updates done.
    """
    one = classes == 1
    updates = np.int64(0)
    for tree in range(streams.size):
        state = draw_units(streams[tree], draws, cumulated, guide, times)
        state = columns_in_play(state, offered, order, in_play, front)
        m0, total = root_rows(times, units, y, classes, shift, rows, packed, totals[0])
        mark_rows(times, units, marked, in_bag[tree])
        push(stack, 0, 0, m0, 0, 0, total)
        top, count, used = 1, 1, 0
        while top > 0:
            top -= 1
            lo, hi, k, depth, total = stack[top, 0], stack[top, 1], stack[top, 2], stack[top, 3], stack[top, 4]
            m, square, lead, pure = node_sums(total, shift, totals[top if not one else 0], classes, here, value[tree, k])
            node[tree, k] = (np.int64(k) << 32) | LEAF
            pick[tree, k] = m  # a leaf keeps its weight here
            if m < 2 * leaf or depth >= deepest or pure or hi - lo < 2:
                continue
            state = draw_columns(state, order[:in_play], want, front)
            subset, subset_packed = rows[lo:hi], packed[lo:hi]
            updates += subset.size * want
            start = 0.0 if one else float(square) / float(m)
            best, q, side, cut, length, left_packed, gap, state = best_split(
                codes, columns, front, want, subset, subset_packed, classes, levels, category, total, shift, here, m, square, lead, leaf,
                tiny, dense, sums, counts, seen, sequence, winner, key, left, keys, values, start, at_random, least, state,
            )  # fmt: skip
            if q < 0:
                continue
            f = np.int64(front[q])
            at = np.int64(used)
            if category[f]:
                used += 1
                pick[tree, k] = at
                fill_set(sets[tree, at], winner, 0, cut, np.uint64(0))
            word = split_word(count, f, category[f], side, winner[0])
            gains[tree, f] += best / float(m) if one else best - start
            c = left_packed >> shift
            both_end = one and ((c < 2 * leaf and m - c < 2 * leaf) or depth + 1 >= deepest)  # then no row has to move
            split = 0
            if not both_end:
                split = move_rows(codes, columns, f, word, sets[tree], at, subset, subset_packed, spare_rows, spare_packed, go)
            if not one:
                c = count_left(subset_packed, split, classes, here, left)
            if category[f]:
                if 2 * c >= m:  # codes that no row of this node has go with the larger side
                    fill_set(sets[tree, at], winner, cut, length, ~np.uint64(0))
            elif not gap and 2 * c < m:
                word = (word | MISSING_RIGHT) - 1
            node[tree, k] = word
            for side in range(2):
                child = total - left_packed if side else left_packed
                if both_end:
                    end_leaf(node[tree], pick[tree], value[tree], count + side, child, shift)
                    continue
                push(stack, top, lo + split if side else lo, hi if side else lo + split, count + side, depth + 1, child)
                if not one:
                    for t in range(classes):
                        totals[top, t] = here[t] - left[t] if side else left[t]
                top += 1
            count += 2
        nodes[tree], set_counts[tree] = count, used
    return updates
