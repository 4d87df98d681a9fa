"""What a node of a tree knows of the drawn columns: sums by code, and the best cut of each.

One packed int64 (count above, fixed-point sum below) serves numbers and two classes; several classes use one int32 count for
every (code, class). All sums are exact integers, so that nothing depends on the order in which rows are read.
"""

from libc.stdint cimport int32_t, int64_t, uint8_t, uint32_t, uint64_t

from chaff.kernels.random_draws cimport below, mix

cdef enum:
    BLOCK = 4096  # rows that a pass over one column takes at a time, so that they stay in cache

cdef extern from *:
    int __builtin_ctzll(unsigned long long x) nogil  # index of the lowest set bit


cdef inline void fill_by_rows(
    const uint8_t[:, ::1] codes, const uint32_t *front, int64_t want, const uint32_t[::1] rows, const int64_t *packed, int64_t classes,
    bint sparse, int64_t[:, ::1] sums, int32_t[:, ::1] counts, uint64_t[:, ::1] seen
) noexcept nogil:
    """Histograms of all drawn columns, row by row; with `sparse` also which codes were met.

    codes : uint8 (n, p).  front : uint32 (want,) columns.  rows : uint32 (m,).  packed : int64 (m,).
    sums : int64 (want, 256), counts : int32 (want, 256 x classes), seen : uint64 (want, 4); zero before. Modified in place.
    """
    cdef uint32_t k, r, y
    cdef int64_t i, q, v
    cdef int32_t w
    cdef uint8_t b
    if classes == 1:
        for i in range(rows.shape[0]):
            r = rows[i]
            v = packed[i]
            if sparse:
                for q in range(want):
                    b = codes[r, front[q]]
                    sums[q, b] += v
                    seen[q, b >> <uint8_t>6] |= <uint64_t>1 << <uint64_t>(b & <uint8_t>63)
            else:
                for q in range(want):
                    sums[q, codes[r, front[q]]] += v
        return
    k = <uint32_t>classes
    for i in range(rows.shape[0]):
        r = rows[i]
        y = <uint32_t>(packed[i] & 65535)
        w = <int32_t>(packed[i] >> 16)
        for q in range(want):
            b = codes[r, front[q]]
            counts[q, <uint32_t>b * k + y] += w
            if sparse:
                seen[q, b >> <uint8_t>6] |= <uint64_t>1 << <uint64_t>(b & <uint8_t>63)


cdef inline void fill_by_columns(
    const uint8_t[:, ::1] columns, const uint32_t *front, int64_t want, const uint32_t[::1] rows, const int64_t[::1] packed,
    int64_t classes, int64_t[:, ::1] sums, int32_t[:, ::1] counts
) noexcept nogil:
    """The same column by column, in blocks of rows. columns : uint8 (p, n)."""
    cdef uint32_t k
    cdef int64_t lo, q, i
    cdef const uint32_t *subset
    cdef const int64_t *v
    cdef const uint8_t *c
    cdef int64_t *h
    cdef int32_t *g
    k = <uint32_t>classes
    for lo from 0 <= lo < rows.shape[0] by BLOCK:
        subset = &rows[lo]
        v = &packed[lo]
        for q in range(want):
            c = &columns[front[q], 0]
            if classes == 1:
                h = &sums[q, 0]
                for i in range(min(BLOCK, rows.shape[0] - lo)):
                    h[c[subset[i]]] += v[i]
            else:
                g = &counts[q, 0]
                for i in range(min(BLOCK, rows.shape[0] - lo)):
                    g[<uint32_t>(c[subset[i]]) * k + <uint32_t>(v[i] & 65535)] += <int32_t>(v[i] >> 16)


cdef inline int64_t list_codes(const uint64_t *seen, int64_t size, bint sparse, uint8_t *sequence) noexcept nogil:
    """Codes to look at, ascending: those met, or all. Returns how many."""
    cdef int64_t length, w, b
    cdef uint64_t x
    length = 0
    if not sparse:
        for b in range(size):
            sequence[b] = <uint8_t>b
        return size
    for w in range((size + 63) >> 6):
        x = seen[w]
        while x != <uint64_t>0:
            sequence[length] = <uint8_t>(w * 64 + <int64_t>(__builtin_ctzll(x)))
            length += 1
            x &= x - <uint64_t>1
    return length


cdef inline (int64_t, int64_t) level_sums(
    const int64_t *sums, const int32_t *counts, int64_t classes, int64_t lead, int64_t shift, int64_t b
) noexcept nogil:
    """(rows of a level, their target or how many of them are of class `lead`)."""
    cdef int64_t c, t
    if classes == 1:
        c = sums[b] >> shift
        return c, sums[b] - (c << shift)
    c = 0
    for t in range(classes):
        c += counts[b * classes + t]
    return c, <int64_t>(counts[b * classes + lead])


cdef inline int64_t order_levels(
    const int64_t *sums, const int32_t *counts, int64_t classes, int64_t lead, int64_t shift, int64_t length, uint8_t *sequence,
    double *key, int64_t least
) noexcept nogil:
    """Keep the levels that have rows, ordered by the mean of the target, or by the share of class `lead`. Returns how many.

    Levels with fewer rows than `least` share one mean, so that chance does not put them in order.
    """
    cdef int64_t few, few_sum, kept, i, b, k, c, s
    cdef double x
    few = 0
    few_sum = 0
    if least > 1:
        for i in range(length):
            c, s = level_sums(sums, counts, classes, lead, shift, <int64_t>(sequence[i]))
            if c < least:
                few += c
                few_sum += s
    kept = 0
    for i in range(length):
        b = <int64_t>(sequence[i])
        c, s = level_sums(sums, counts, classes, lead, shift, b)
        if c == 0:
            continue
        x = <double>s / <double>c if c >= least else <double>few_sum / <double>few
        k = kept
        while k > 0 and key[k - 1] > x:
            key[k] = key[k - 1]
            sequence[k] = sequence[k - 1]
            k -= 1
        key[k] = x
        sequence[k] = b
        kept += 1
    return kept


cdef inline (uint64_t, int64_t) random_cut(
    const int64_t *sums, const int32_t *counts, int64_t classes, const uint8_t *sequence, int64_t length, bint missing, uint64_t state
) noexcept nogil:
    """(state, where to cut): after a code drawn evenly between the lowest and the highest that have rows."""
    cdef int64_t k, lo, hi, b, t
    cdef uint64_t z
    cdef bint subset
    lo, hi = <int64_t>length, <int64_t>-1
    for k in range(<int64_t>missing, length):
        b = <int64_t>(sequence[k])
        if classes == 1:
            subset = sums[b] != 0
        else:
            subset = False
            for t in range(b * classes, b * classes + classes):
                subset |= counts[t] != 0
        if subset:
            lo = min(lo, k)
            hi = <int64_t>k
    state, z = mix(state)
    return state, lo + below(z, hi - lo) if hi > lo else <int64_t>0


cdef inline (double, int64_t, int64_t) scan_sums(
    const int64_t *sums, const uint8_t *sequence, int64_t lo, int64_t hi, int64_t total, int64_t shift, int64_t leaf, double best,
    int64_t only, const double *key, bint whole
) noexcept nogil:
    """Best cut after sequence[k]: (score, k or -1, packed left side). score = d² / (c (m - c)), d = s m - t c.

    only : the one cut that is looked at; -1 for all.  whole : whether levels of one key stay on one side."""
    cdef int64_t low, m, t, left, most, where, kept, k, c
    cdef double d, score
    low = (<int64_t>1 << shift) - 1
    m = total >> shift
    t = total & low
    left = 0
    most = m - leaf
    where = -1
    kept = 0
    for k in range(lo, hi - 1):
        left += sums[sequence[k]]
        c = left >> shift
        if c < leaf or (only >= 0 and k != only) or (whole and key[k] == key[k + 1]):
            continue
        if c > most:
            break
        d = <double>((left & low) * m - t * c)
        score = d * d / <double>(c * (m - c))
        if score > best:
            best = score
            where = k
            kept = left
    return best, where, kept


cdef inline (double, int64_t) scan_counts(
    const int32_t *counts, int64_t classes, const uint8_t *sequence, int64_t lo, int64_t hi, const int64_t *totals, int64_t m,
    int64_t square, int64_t leaf, int64_t *left, double best, int64_t only, const double *key, bint whole
) noexcept nogil:
    """The same for several classes: score = (Ql (m - c) + Qr c) / (c (m - c)), Q the sum of squared counts of a side."""
    cdef int64_t where, c, own, cross, t, most, k, j, a, o
    cdef double score
    where = -1
    c = 0
    own = 0
    cross = 0
    for t in range(classes):
        left[t] = 0
    most = m - leaf
    for k in range(lo, hi - 1):
        j = <int64_t>(sequence[k]) * classes
        for t in range(classes):
            a = <int64_t>(counts[j + t])
            o = left[t]
            own += a * (2 * o + a)
            cross += a * totals[t]
            left[t] = o + a
            c += a
        if c < leaf or (only >= 0 and k != only) or (whole and key[k] == key[k + 1]):
            continue
        if c > most:
            break
        score = <double>(own * (m - c) + (square - 2 * cross + own) * c) / <double>(c * (m - c))
        if score > best:
            best = score
            where = k
    return best, where


cdef inline void sort_tiny(
    const uint8_t[:, ::1] codes, uint32_t f, const uint32_t[::1] rows, const int64_t *packed, int32_t *keys, int64_t *values
) noexcept nogil:
    """Order a few rows by code, by counting and without a branch: keys[64:] their codes, `values` their packed targets."""
    cdef int64_t length, i, at, j
    cdef int32_t x
    length = rows.shape[0]
    for i in range(length):
        keys[i] = (<int32_t>(codes[rows[i], f]) << 6) | <int32_t>i
    for i in range(length):
        x = keys[i]
        at = <int32_t>0
        for j in range(length):
            at += <int32_t>(keys[j] < x)
        keys[64 + <int64_t>at] = x >> 6
        values[at] = packed[i]


cdef inline (double, int64_t, int64_t, int64_t, bint) scan_tiny(
    const int32_t *keys, const int64_t *values, int64_t length, int64_t classes, int64_t total, int64_t shift, const int64_t *totals,
    int64_t m, int64_t square, int64_t leaf, int64_t *left, double best
) noexcept nogil:
    """Best cut of a few sorted rows: (score, last code on the left or -1, 1 where missing goes right, packed left, missing)."""
    cdef int32_t first
    cdef int64_t result, side, kept, start, low, go, acc, own, cross, t, i, c, y, w, o
    cdef double d, score
    first = keys[64]
    result = -1
    side = 0
    kept = 0
    if first == keys[63 + length]:
        return best, result, side, kept, first == 0
    start = 0
    low = (<int64_t>1 << shift) - 1
    for go in range(2):
        acc = 0
        own = 0
        cross = 0
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
                d = <double>((acc & low) * m - (total & low) * c)
                score = d * d / <double>(c * (m - c))
            else:
                score = <double>(own * (m - c) + (square - 2 * cross + own) * c) / <double>(c * (m - c))
            if score > best:
                best = score
                result = <int64_t>(keys[64 + i])
                side = go
                kept = acc
        if first != 0:
            break
        while keys[64 + start] == 0:
            start += 1
    return best, result, side, kept, first == 0
