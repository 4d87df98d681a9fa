"""Growing trees on binned columns.

A node is one int64: left child << 32 | column << 12 | category << 9 | missing right << 8 | last code on the left. The right
child follows the left one, and a leaf leads to itself. Categories keep the codes that go left as a 256-bit set.
"""

from libc.stdint cimport int32_t, int64_t, uint8_t, uint32_t, uint64_t

from chaff.kernels.histograms cimport (
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
from chaff.kernels.random_draws cimport draw_columns, draw_units
from chaff.kernels.tree_walks cimport CATEGORY, LEAF, MISSING_RIGHT, goes_left

cdef enum:
    BY_COLUMNS = 1500  # nodes with more rows are read column by column, smaller ones row by row

cpdef enum:
    TINY = 16  # up to so many rows (at most 64) are ordered by counting, without a histogram


cdef inline void clear(
    int64_t *sums, int32_t *counts, uint64_t *seen, int64_t classes, const uint8_t *sequence, int64_t length, int64_t size, bint sparse
) noexcept nogil:
    """Set what one column has filled back to zero: the codes that were met, or all."""
    cdef int64_t i, w, b, t
    if sparse:
        for i in range(length):
            b = <int64_t>(sequence[i])
            if classes == 1:
                sums[b] = 0
            else:
                for t in range(b * classes, b * classes + classes):
                    counts[t] = 0
        for w in range(4):
            seen[w] = <uint64_t>0
    elif classes == 1:
        for b in range(size):
            sums[b] = 0
    else:
        for b in range(size * classes):
            counts[b] = 0


cdef inline bint has_missing(const int64_t *sums, const int32_t *counts, int64_t classes) noexcept nogil:
    cdef int64_t total, t
    if classes == 1:
        return sums[0] != 0
    total = 0
    for t in range(classes):
        total += counts[t]
    return total != 0


cdef inline (double, int64_t, int64_t, int64_t, int64_t, int64_t, bint, uint64_t) best_split(
    const uint8_t[:, ::1] codes, const uint8_t[:, ::1] columns, const uint32_t[::1] front, int64_t want, const uint32_t[::1] rows,
    const int64_t[::1] packed, int64_t classes, const int64_t *levels, const uint8_t *category, int64_t total, int64_t shift,
    const int64_t *totals, int64_t m, int64_t square, int64_t lead, int64_t leaf, int64_t tiny, int64_t dense, int64_t[:, ::1] sums,
    int32_t[:, ::1] counts, uint64_t[:, ::1] seen, uint8_t *sequence, uint8_t *winner, double *key, int64_t *left, int32_t *keys,
    int64_t *values, double best, bint at_random, int64_t least, uint64_t state
) noexcept nogil:
    """(score, place in `front` or -1, side, codes of `winner` on the left, codes in `winner`, packed left, missing cells, state)."""
    cdef bint small, by_columns, sparse, gap, missing, whole
    cdef int64_t one, place, place_side, cut, winner_length, left_kept, q, f, h, g, size, length, result, best_side, kept, only, side
    cdef int64_t code, x, i, at
    small = rows.shape[0] <= tiny
    by_columns = rows.shape[0] > BY_COLUMNS and not small
    sparse = (not by_columns) and (not small) and rows.shape[0] < dense
    if by_columns:
        fill_by_columns(columns, &front[0], want, rows, packed, classes, sums, counts)
    elif not small:
        fill_by_rows(codes, &front[0], want, rows, &packed[0], classes, sparse, sums, counts, seen)
    one = 1
    place = -1
    place_side = 0
    cut = 0
    winner_length = 0
    left_kept = 0
    gap = False
    for q in range(want):
        f = <int64_t>(front[q])
        if small and not category[f]:
            sort_tiny(codes, front[q], rows, &packed[0], keys, values)
            best, code, side, kept, missing = scan_tiny(
                keys, values, rows.shape[0], classes, total, shift, totals, m, square, leaf, left, best
            )
            if code >= 0:
                place, place_side, left_kept, gap = q, side, kept, missing
                winner[0] = code
            continue
        h = q if classes == 1 else 0
        g = 0 if classes == 1 else q
        if small:
            fill_by_rows(codes, &front[q], one, rows, &packed[0], classes, sparse, sums[h:], counts[g:], seen)
        size = levels[f]
        length = list_codes(&seen[q, 0], size, sparse, sequence)
        if category[f]:
            length = order_levels(&sums[h, 0], &counts[g, 0], classes, lead, shift, length, sequence, key, least)
        missing = has_missing(&sums[h, 0], &counts[g, 0], classes)
        result = -1
        best_side = 0
        kept = 0
        only = -1
        whole = category[f] and least > 1
        if at_random:
            state, only = random_cut(&sums[h, 0], &counts[g, 0], classes, sequence, length, missing and not category[f], state)
        for side in range(1 if category[f] or not missing else 2):
            if classes == 1:
                best, at, x = scan_sums(&sums[h, 0], sequence, side, length, total, shift, leaf, best, only, key, whole)
            else:
                best, at = scan_counts(
                    &counts[g, 0], classes, sequence, side, length, totals, m, square, leaf, left, best, only, key, whole
                )
                x = 0
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
        clear(&sums[h, 0], &counts[g, 0], &seen[q, 0], classes, sequence, length, size, sparse)
    return best, place, place_side, cut, winner_length, left_kept, gap, state


cdef inline int64_t move_rows(
    const uint8_t[:, ::1] codes, const uint8_t[:, ::1] columns, int64_t f, int64_t word, const uint64_t[:, ::1] sets, int64_t at,
    uint32_t[::1] rows, int64_t *packed, uint32_t *spare_rows, int64_t *spare_packed, uint8_t *go
) noexcept nogil:
    """Stable partition of rows and targets without a branch; returns how many go left."""
    cdef int64_t a, b, i, v, left
    cdef uint8_t off, last
    cdef uint32_t r
    cdef const uint8_t *c
    c = &columns[f, 0]
    if word & CATEGORY:
        for i in range(rows.shape[0]):
            go[i] = goes_left(word, <int64_t>(c[rows[i]]), sets, at)
    else:
        off = <uint8_t>((word >> 8) & 1)
        last = <uint8_t>(word & 255)
        if rows.shape[0] > BY_COLUMNS:
            for i in range(rows.shape[0]):
                go[i] = <uint8_t>(c[rows[i]] - off) <= last
        else:
            for i in range(rows.shape[0]):
                go[i] = <uint8_t>(codes[rows[i], f] - off) <= last
    a = 0
    b = 0
    for i in range(rows.shape[0]):
        r = rows[i]
        v = packed[i]
        left = <int64_t>(go[i])
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


cdef inline (int64_t, int64_t) root_rows(
    const int32_t *times, const int64_t[::1] units, const int64_t[::1] y, int64_t classes, int64_t shift, uint32_t *rows,
    int64_t *packed, int64_t *totals
) noexcept nogil:
    """Rows that were drawn, with their packed targets: (how many, packed total). Class counts go into `totals`."""
    cdef int64_t count, total, t, i, w
    count = 0
    total = 0
    for t in range(classes):
        totals[t] = 0
    for i in range(y.shape[0]):
        w = <int64_t>(times[units[i]]) if units.shape[0] else <int64_t>(times[i])
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


cdef inline uint64_t columns_in_play(
    uint64_t state, const int64_t[::1] offered, int64_t[::1] order, int64_t in_play, uint32_t *front
) noexcept nogil:
    """Put the columns that a tree may use at the front of `order`."""
    cdef int64_t i
    for i in range(offered.shape[0]):
        order[i] = offered[i]
    return draw_columns(state, order, in_play, front) if in_play < offered.shape[0] else state


cdef inline void mark_rows(const int32_t *times, const int64_t[::1] units, const int64_t[::1] marked, uint8_t *marks) noexcept nogil:
    """Which of some rows were drawn. `marks` is modified in place."""
    cdef int64_t i, r
    for i in range(marked.shape[0]):
        r = marked[i]
        marks[i] = times[units[r]] > 0 if units.shape[0] else times[r] > 0


cdef inline int64_t count_left(
    const int64_t[::1] packed, int64_t split, int64_t classes, const int64_t *here, int64_t *left
) noexcept nogil:
    """Class counts of the left side from the smaller side; returns their sum."""
    cdef bint small_left
    cdef int64_t t, c, i
    small_left = 2 * split <= packed.shape[0]
    for t in range(classes):
        left[t] = 0 if small_left else here[t]
    if small_left:
        for i in range(split):
            left[packed[i] & 65535] += packed[i] >> 16
    else:
        for i in range(split, packed.shape[0]):
            left[packed[i] & 65535] -= packed[i] >> 16
    c = 0
    for t in range(classes):
        c += left[t]
    return c


cdef inline void fill_set(uint64_t *words, const uint8_t *winner, int64_t lo, int64_t hi, uint64_t fill) noexcept nogil:
    """Start from all codes in or out, and put codes winner[lo:hi] on the other side."""
    cdef int64_t w, i, b
    for w in range(4):
        words[w] = fill
    for i in range(lo, hi):
        b = <int64_t>(winner[i])
        words[b >> 6] ^= <uint64_t>1 << <uint64_t>(b & 63)


cdef inline (int64_t, int64_t, int64_t, bint) node_sums(
    int64_t total, int64_t shift, const int64_t *totals, int64_t classes, int64_t *here, double *value
) noexcept nogil:
    """(weight, sum of squared class counts, commonest class, whether nothing is left to tell apart); fills the node's value."""
    cdef int64_t square, lead, m, t, rest, x
    square = 0
    lead = 0
    if classes == 1:
        m = total >> shift
        rest = total - (m << shift)
        value[0] = <double>rest / <double>m
        return m, square, lead, rest == 0
    m = 0
    for t in range(classes):
        x = totals[t]
        here[t] = x
        m += x
        square += x * x
        if x > here[lead]:
            lead = t
    for t in range(classes):
        value[t] = <double>(here[t]) / <double>m
    return m, square, lead, square == m * m


cdef inline void push(int64_t[:, ::1] stack, int64_t top, int64_t lo, int64_t hi, int64_t k, int64_t depth, int64_t packed) noexcept nogil:
    """Put a node's rows lo..hi-1, its place, depth and packed total on the stack."""
    stack[top, 0] = lo
    stack[top, 1] = hi
    stack[top, 2] = k
    stack[top, 3] = depth
    stack[top, 4] = packed


cdef inline void end_leaf(int64_t *node, int32_t *pick, double[:, ::1] value, int64_t k, int64_t packed, int64_t shift) noexcept nogil:
    """Write a leaf of one target from its packed total."""
    cdef int64_t m
    m = packed >> shift
    node[k] = (<int64_t>k << 32) | LEAF
    value[k, 0] = <double>(packed - (m << shift)) / <double>m
    pick[k] = m


cdef inline int64_t split_word(int64_t child, int64_t f, bint category, int64_t side, uint8_t last) noexcept nogil:
    """The node of a split: see the top of this file."""
    cdef int64_t word
    word = (<int64_t>child << 32) | (f << 12)
    if category:
        return word | CATEGORY
    return word | MISSING_RIGHT | (<int64_t>last - 1) if side == 1 else word | <int64_t>last


def grow_trees(
    const uint8_t[:, ::1] codes, const uint8_t[:, ::1] columns, const int64_t[::1] offered, const int64_t[::1] levels,
    const uint8_t[::1] category, const int64_t[::1] y, int64_t classes, int64_t shift, const double[::1] cumulated,
    const int64_t[::1] guide, const int64_t[::1] units, int64_t draws, int64_t in_play, int64_t want, int64_t leaf, int64_t deepest,
    int64_t tiny, int64_t dense, bint at_random, int64_t least, const uint64_t[::1] streams, const int64_t[::1] marked,
    int64_t[:, ::1] node, int32_t[:, ::1] pick, uint64_t[:, :, ::1] sets, double[:, :, ::1] value, int64_t[::1] nodes,
    int64_t[::1] set_counts, double[:, ::1] gains, uint8_t[:, ::1] in_bag, int32_t[::1] times, uint32_t[::1] rows,
    uint32_t[::1] spare_rows, int64_t[::1] packed, int64_t[::1] spare_packed, uint8_t[::1] go, int64_t[:, ::1] sums,
    int32_t[:, ::1] counts, uint64_t[:, ::1] seen, uint8_t[::1] sequence, uint8_t[::1] winner, double[::1] key, int32_t[::1] keys,
    int64_t[::1] values, int64_t[:, ::1] stack, int64_t[:, ::1] totals, int64_t[::1] here, int64_t[::1] left, int64_t[::1] order,
    uint32_t[::1] front
):
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
    cdef bint one, both_end, pure, gap
    cdef int64_t updates, tree, m0, total, top, count, used, f, at, word, c, split, side, lo, hi, k, depth, m, square, lead, q, cut
    cdef int64_t length, left_packed, child, t
    cdef uint64_t state
    cdef double start, best
    cdef uint32_t[::1] subset
    cdef int64_t[::1] subset_packed
    with nogil:
        one = classes == 1
        updates = 0
        for tree in range(streams.shape[0]):
            state = draw_units(streams[tree], draws, cumulated, &guide[0], times)
            state = columns_in_play(state, offered, order, in_play, &front[0])
            m0, total = root_rows(&times[0], units, y, classes, shift, &rows[0], &packed[0], &totals[0, 0])
            mark_rows(&times[0], units, marked, &in_bag[tree, 0])
            push(stack, 0, 0, m0, 0, 0, total)
            top, count, used = 1, 1, 0
            while top > 0:
                top -= 1
                lo, hi, k, depth, total = stack[top, 0], stack[top, 1], stack[top, 2], stack[top, 3], stack[top, 4]
                m, square, lead, pure = node_sums(total, shift, &totals[top if not one else 0, 0], classes, &here[0], &value[tree, k, 0])
                node[tree, k] = (<int64_t>k << 32) | LEAF
                pick[tree, k] = m  # a leaf keeps its weight here
                if m < 2 * leaf or depth >= deepest or pure or hi - lo < 2:
                    continue
                state = draw_columns(state, order[:in_play], want, &front[0])
                subset, subset_packed = rows[lo:hi], packed[lo:hi]
                updates += subset.shape[0] * want
                start = 0.0 if one else <double>square / <double>m
                best, q, side, cut, length, left_packed, gap, state = best_split(
                    codes, columns, front, want, subset, subset_packed, classes, &levels[0], &category[0], total, shift, &here[0], m, square, lead, leaf,
                    tiny, dense, sums, counts, seen, &sequence[0], &winner[0], &key[0], &left[0], &keys[0], &values[0], start, at_random, least, state,
                )  # fmt: skip
                if q < 0:
                    continue
                f = <int64_t>(front[q])
                at = <int64_t>used
                if category[f]:
                    used += 1
                    pick[tree, k] = at
                    fill_set(&sets[tree, at, 0], &winner[0], 0, cut, <uint64_t>0)
                word = split_word(count, f, category[f], side, winner[0])
                gains[tree, f] += best / <double>m if one else best - start
                c = left_packed >> shift
                both_end = one and ((c < 2 * leaf and m - c < 2 * leaf) or depth + 1 >= deepest)  # then no row has to move
                split = 0
                if not both_end:
                    split = move_rows(
                        codes, columns, f, word, sets[tree], at, subset, &subset_packed[0], &spare_rows[0], &spare_packed[0], &go[0]
                    )
                if not one:
                    c = count_left(subset_packed, split, classes, &here[0], &left[0])
                if category[f]:
                    if 2 * c >= m:  # codes that no row of this node has go with the larger side
                        fill_set(&sets[tree, at, 0], &winner[0], cut, length, ~<uint64_t>0)
                elif not gap and 2 * c < m:
                    word = (word | MISSING_RIGHT) - 1
                node[tree, k] = word
                for side in range(2):
                    child = total - left_packed if side else left_packed
                    if both_end:
                        end_leaf(&node[tree, 0], &pick[tree, 0], value[tree], count + side, child, shift)
                        continue
                    push(stack, top, lo + split if side else lo, hi if side else lo + split, count + side, depth + 1, child)
                    if not one:
                        for t in range(classes):
                            totals[top, t] = here[t] - left[t] if side else left[t]
                    top += 1
                count += 2
            nodes[tree], set_counts[tree] = count, used
    return updates
