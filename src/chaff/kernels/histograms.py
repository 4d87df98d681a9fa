"""What a node of a tree knows of the drawn columns: sums by code, and the best cut of each.

One packed int64 (count above, fixed-point sum below) serves numbers and two classes; several classes use one int32 count for
every (code, class). All sums are exact integers, so that nothing depends on the order in which rows are read.
"""

from __future__ import annotations

import numpy as np
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

from chaff.kernels.jit import lean_helper
from chaff.kernels.random_draws import below, mix

ONE = np.uint64(1)
BLOCK = 4096  # rows that a pass over one column takes at a time, so that they stay in cache


@intrinsic
def low_bit(typingctx, x):
    """Index of the lowest set bit of a uint64 that is not 0."""

    def codegen(context, builder, signature, args):
        return builder.cttz(args[0], cgutils.true_bit)

    return types.uint64(types.uint64), codegen


@lean_helper
def fill_by_rows(codes, front, want, rows, packed, classes, sparse, sums, counts, seen):
    """Histograms of all drawn columns, row by row; with `sparse` also which codes were met.

    codes : uint8 (n, p).  front : uint32 (want,) columns.  rows : uint32 (m,).  packed : int64 (m,).
    sums : int64 (want, 256), counts : int32 (want, 256 x classes), seen : uint64 (want, 4); zero before. Modified in place.
    """
    if classes == 1:
        for i in range(rows.size):
            r = rows[i]
            v = packed[i]
            if sparse:
                for q in range(want):
                    b = codes[r, front[q]]
                    sums[q, b] += v
                    seen[q, b >> np.uint8(6)] |= ONE << np.uint64(b & np.uint8(63))
            else:
                for q in range(want):
                    sums[q, codes[r, front[q]]] += v
        return
    k = np.uint32(classes)
    for i in range(rows.size):
        r = rows[i]
        y = np.uint32(packed[i] & 65535)
        w = np.int32(packed[i] >> 16)
        for q in range(want):
            b = codes[r, front[q]]
            counts[q, np.uint32(b) * k + y] += w
            if sparse:
                seen[q, b >> np.uint8(6)] |= ONE << np.uint64(b & np.uint8(63))


@lean_helper
def fill_by_columns(columns, front, want, rows, packed, classes, sums, counts):
    """The same column by column, in blocks of rows. columns : uint8 (p, n)."""
    k = np.uint32(classes)
    for lo in range(0, rows.size, BLOCK):
        subset = rows[lo : lo + BLOCK]
        v = packed[lo : lo + BLOCK]
        for q in range(want):
            c = columns[front[q]]
            if classes == 1:
                h = sums[q]
                for i in range(subset.size):
                    h[c[subset[i]]] += v[i]
            else:
                g = counts[q]
                for i in range(subset.size):
                    g[np.uint32(c[subset[i]]) * k + np.uint32(v[i] & 65535)] += np.int32(v[i] >> 16)


@lean_helper
def list_codes(seen, size, sparse, sequence):
    """Codes to look at, ascending: those met, or all. Returns how many."""
    length = 0
    if not sparse:
        for b in range(size):
            sequence[b] = np.uint8(b)
        return size
    for w in range((size + 63) >> 6):
        x = seen[w]
        while x != np.uint64(0):
            sequence[length] = np.uint8(w * 64 + np.int64(low_bit(x)))
            length += 1
            x &= x - ONE
    return length


@lean_helper
def level_sums(sums, counts, classes, lead, shift, b):
    """(rows of a level, their target or how many of them are of class `lead`)."""
    if classes == 1:
        c = sums[b] >> shift
        return c, sums[b] - (c << shift)
    c = np.int64(0)
    for t in range(classes):
        c += counts[b * classes + t]
    return c, np.int64(counts[b * classes + lead])


@lean_helper
def order_levels(sums, counts, classes, lead, shift, length, sequence, key, least):
    """Keep the levels that have rows, ordered by the mean of the target, or by the share of class `lead`. Returns how many.

    Levels with fewer rows than `least` share one mean, so that chance does not put them in order.
    """
    few = np.int64(0)
    few_sum = np.int64(0)
    if least > 1:
        for i in range(length):
            c, s = level_sums(sums, counts, classes, lead, shift, np.int64(sequence[i]))
            if c < least:
                few += c
                few_sum += s
    kept = 0
    for i in range(length):
        b = np.int64(sequence[i])
        c, s = level_sums(sums, counts, classes, lead, shift, b)
        if c == 0:
            continue
        x = float(s) / float(c) if c >= least else float(few_sum) / float(few)
        k = kept
        while k > 0 and key[k - 1] > x:
            key[k] = key[k - 1]
            sequence[k] = sequence[k - 1]
            k -= 1
        key[k] = x
        sequence[k] = b
        kept += 1
    return kept


@lean_helper
def random_cut(sums, counts, classes, sequence, length, missing, state):
    """(state, where to cut): after a code drawn evenly between the lowest and the highest that have rows."""
    lo, hi = np.int64(length), np.int64(-1)
    for k in range(np.int64(missing), length):
        b = np.int64(sequence[k])
        if classes == 1:
            subset = sums[b] != 0
        else:
            subset = False
            for t in range(b * classes, b * classes + classes):
                subset |= counts[t] != 0
        if subset:
            lo = min(lo, k)
            hi = np.int64(k)
    state, z = mix(state)
    return state, lo + below(z, hi - lo) if hi > lo else np.int64(0)


@lean_helper
def scan_sums(sums, sequence, lo, hi, total, shift, leaf, best, only, key, whole):
    """Best cut after sequence[k]: (score, k or -1, packed left side). score = d² / (c (m - c)), d = s m - t c.

    only : the one cut that is looked at; -1 for all.  whole : whether levels of one key stay on one side."""
    low = (np.int64(1) << shift) - 1
    m = total >> shift
    t = total & low
    left = np.int64(0)
    most = m - leaf
    where = np.int64(-1)
    kept = np.int64(0)
    for k in range(lo, hi - 1):
        left += sums[sequence[k]]
        c = left >> shift
        if c < leaf or (only >= 0 and k != only) or (whole and key[k] == key[k + 1]):
            continue
        if c > most:
            break
        d = float((left & low) * m - t * c)
        score = d * d / float(c * (m - c))
        if score > best:
            best = score
            where = k
            kept = left
    return best, where, kept


@lean_helper
def scan_counts(counts, classes, sequence, lo, hi, totals, m, square, leaf, left, best, only, key, whole):
    """The same for several classes: score = (Ql (m - c) + Qr c) / (c (m - c)), Q the sum of squared counts of a side."""
    where = np.int64(-1)
    c = np.int64(0)
    own = np.int64(0)
    cross = np.int64(0)
    for t in range(classes):
        left[t] = 0
    most = m - leaf
    for k in range(lo, hi - 1):
        j = np.int64(sequence[k]) * classes
        for t in range(classes):
            a = np.int64(counts[j + t])
            o = left[t]
            own += a * (2 * o + a)
            cross += a * totals[t]
            left[t] = o + a
            c += a
        if c < leaf or (only >= 0 and k != only) or (whole and key[k] == key[k + 1]):
            continue
        if c > most:
            break
        score = float(own * (m - c) + (square - 2 * cross + own) * c) / float(c * (m - c))
        if score > best:
            best = score
            where = k
    return best, where


@lean_helper
def sort_tiny(codes, f, rows, packed, keys, values):
    """Order a few rows by code, by counting and without a branch: keys[64:] their codes, `values` their packed targets."""
    length = rows.size
    for i in range(length):
        keys[i] = (np.int32(codes[rows[i], f]) << 6) | np.int32(i)
    for i in range(length):
        x = keys[i]
        at = np.int32(0)
        for j in range(length):
            at += np.int32(keys[j] < x)
        keys[64 + np.int64(at)] = x >> 6
        values[at] = packed[i]


@lean_helper
def scan_tiny(keys, values, length, classes, total, shift, totals, m, square, leaf, left, best):
    """Best cut of a few sorted rows: (score, last code on the left or -1, 1 where missing goes right, packed left, missing)."""
    first = keys[64]
    result = np.int64(-1)
    side = 0
    kept = np.int64(0)
    if first == keys[63 + length]:
        return best, result, side, kept, first == 0
    start = 0
    low = (np.int64(1) << shift) - 1
    for go in range(2):
        acc = np.int64(0)
        own = np.int64(0)
        cross = np.int64(0)
        for t in range(classes):
            left[t] = 0
        for i in range(start, length - 1):
            if classes == 1:
                acc += values[i]
                c = acc >> shift
            else:
                y = values[i] & 65535
                w = values[i] >> 16
                o = left[y]
                own += w * (2 * o + w)
                cross += w * totals[y]
                left[y] = o + w
                acc += w
                c = acc
            if keys[64 + i] == keys[65 + i] or c < leaf or m - c < leaf:
                continue
            if classes == 1:
                d = float((acc & low) * m - (total & low) * c)
                score = d * d / float(c * (m - c))
            else:
                score = float(own * (m - c) + (square - 2 * cross + own) * c) / float(c * (m - c))
            if score > best:
                best = score
                result = np.int64(keys[64 + i])
                side = go
                kept = acc
        if first != 0:
            break
        while keys[64 + start] == 0:
            start += 1
    return best, result, side, kept, first == 0
