"""Pairs of features against the target and its shuffles: sums by the cells of two bins, and what goes beyond adding up.

A target step (0..15) of one lane takes 16 bits of a word, so that one add serves four targets; SPAN rows fill no more than
that.
"""

import numpy as np

from libc.math cimport INFINITY
from libc.stdint cimport int32_t, int64_t, uint8_t, uint64_t

cpdef enum:
    SIDE = 16  # codes of a feature
    CELLS = 256
    WORDS = 8  # of four lanes each
    LANES = 32
    SPAN = 4096  # rows: 4096 times 15 still fits 16 bits

cdef void _add_cells(
    const uint8_t[::1] a, const uint8_t[::1] b_and_step, int32_t[::1] table, int64_t[::1] counts, int64_t[::1] sums
) noexcept nogil:
    cdef uint64_t eight
    cdef int64_t i, c, s, rows, total
    cdef int32_t k
    table[:] = 0
    eight = <uint64_t>8
    for i in range(a.shape[0]):
        table[(<uint64_t>(a[i]) << eight) | <uint64_t>(b_and_step[i])] += 1
    for c in range(CELLS):
        rows, total = 0, 0
        for s in range(SIDE):
            k = table[c * SIDE + s]
            rows += k
            total += s * k
        counts[c] = rows
        sums[c] = total


def add_cells(const uint8_t[::1] a, const uint8_t[::1] b_and_step, int32_t[::1] table, int64_t[::1] counts, int64_t[::1] sums):
    """counts[cell] = rows, sums[cell] = sum of the target's steps, for cell = 16 a + b.

    a : uint8 (n,), below 16.  b_and_step : uint8 (n,), 16 b + step.  table : int32 (4096,), scratch.
    counts, sums : int64 (256,). Modified in place.
    One count over cell and step costs no more than one over the cell alone.
    """
    with nogil:
        _add_cells(a, b_and_step, table, counts, sums)


cdef void _add_step_lanes(
    const uint8_t[::1] a, const uint8_t[::1] b, const int64_t[:, ::1] words, int64_t[:, ::1] scratch, int64_t[::1] counts,
    double[:, ::1] sums
) noexcept nogil:
    cdef int64_t n, start, i, c, cell, w, x0, x1, x2, x3, x4, x5, x6, x7, v
    cdef int64_t[::1] own
    cdef const int64_t[::1] row
    n = a.shape[0]
    for start from 0 <= start < n by SPAN:
        scratch[:] = 0
        for i in range(start, min(start + SPAN, n)):
            cell = a[i] * SIDE + b[i]
            counts[cell] += 1
            own, row = scratch[cell], words[i]
            x0, x1, x2, x3 = own[0] + row[0], own[1] + row[1], own[2] + row[2], own[3] + row[3]
            x4, x5, x6, x7 = own[4] + row[4], own[5] + row[5], own[6] + row[6], own[7] + row[7]
            own[0], own[1], own[2], own[3] = x0, x1, x2, x3
            own[4], own[5], own[6], own[7] = x4, x5, x6, x7
        for c in range(CELLS):
            for w in range(WORDS):
                v = scratch[c, w]
                sums[c, 4 * w] += v & 65535
                sums[c, 4 * w + 1] += (v >> 16) & 65535
                sums[c, 4 * w + 2] += (v >> 32) & 65535
                sums[c, 4 * w + 3] += (v >> 48) & 65535


def add_step_lanes(
    const uint8_t[::1] a, const uint8_t[::1] b, const int64_t[:, ::1] words, int64_t[:, ::1] scratch, int64_t[::1] counts,
    double[:, ::1] sums
):
    """The same for LANES targets at once.

    words : int64 (n, WORDS), lane l in bits 16 (l % 4) of word l // 4.  scratch : int64 (256, WORDS).
    counts : int64 (256,).  sums : float64 (256, LANES). counts and sums are modified in place.
    """
    with nogil:
        _add_step_lanes(a, b, words, scratch, counts, sums)


cdef (double, double) _beyond_adding(
    const double[:, ::1] counts, const double[:, :, ::1] sums, const double[::1] squares, double[:, ::1] L, double[:, ::1] rhs,
    double[:, ::1] out
) noexcept nogil:
    cdef int64_t t, k, i, rank, j, cells, seen_a, m
    cdef double rows, total, n_a, pivot, root, n, s_a, v, s
    t = squares.shape[0]
    rows, cells, seen_a, total = 0.0, 0, 0, 0.0
    L[:] = 0.0
    rhs[:] = 0.0
    for k in range(t):
        out[k, 0] = 0.0
        out[k, 1] = squares[k]
    for i in range(SIDE):
        n_a = 0.0
        for j in range(SIDE):
            n_a += counts[i, j]
        if n_a == 0.0:
            continue
        seen_a += 1
        rows += n_a
        for j in range(SIDE):
            n = counts[i, j]
            if n == 0.0:
                continue
            cells += 1
            L[j, j] += n
            for m in range(SIDE):
                L[j, m] -= n * counts[i, m] / n_a
        for k in range(t):
            s_a = 0.0
            for j in range(SIDE):
                s_a += sums[i, j, k]
            out[k, 0] -= s_a * s_a / n_a
            for j in range(SIDE):
                n = counts[i, j]
                if n > 0.0:
                    s = sums[i, j, k]
                    out[k, 0] += s * s / n
                    out[k, 1] -= s * s / n
                    rhs[j, k] += s - n * s_a / n_a
    rank = 0
    for j in range(SIDE):
        total = 0.0
        for i in range(SIDE):
            total += counts[i, j]
        pivot = L[j, j]
        for m in range(j):
            pivot -= L[j, m] * L[j, m]
        if total == 0.0 or pivot < 1e-9 * total:
            for m in range(SIDE):
                if m <= j:
                    L[j, m] = 0.0
            continue
        rank += 1
        root = pivot**0.5
        L[j, j] = root
        for i in range(j + 1, SIDE):
            v = L[i, j]
            for m in range(j):
                v -= L[i, m] * L[j, m]
            L[i, j] = v / root
        for k in range(t):
            v = rhs[j, k]
            for m in range(j):
                v -= L[j, m] * rhs[m, k]
            v /= root
            rhs[j, k] = v
            out[k, 0] -= v * v
    # A passed-over row keeps a right side that later rows multiply by a zero in L.
    for k in range(t):
        out[k, 0] = max(out[k, 0], 0.0)
        out[k, 1] = max(out[k, 1], 0.0)
    return <double>(cells - seen_a - rank), rows - cells


def beyond_adding(
    const double[:, ::1] counts, const double[:, :, ::1] sums, const double[::1] squares, double[:, ::1] L, double[:, ::1] rhs,
    double[:, ::1] out
):
    """What the cells of two features explain beyond the sum of a part for each: one F a target.

    counts : float64 (16, 16).  sums : float64 (16, 16, t), of targets about their means.  squares : float64 (t,).
    L : float64 (16, 16), rhs : float64 (16, t), scratch.  out : float64 (t, 2), (sum of squares beyond, within), modified
    in place. Returns (degrees of freedom beyond, within).

    The part of `a` is eliminated row by row, what is left is solved for the part of `b`; a pivot that is no more than
    rounding belongs to a level that the others fix, and is passed over.
    """
    cdef (double, double) result
    with nogil:
        result = _beyond_adding(counts, sums, squares, L, rhs, out)
    return result


cdef inline double normal_score(double beyond, double within, double df, double df_within) noexcept nogil:
    """About a standard normal deviate for an F ratio, so that pairs with other degrees of freedom can be compared.

    Source: Paulson, 1942 (cube roots, after Wilson and Hilferty, 1931).
    """
    cdef double root, a, b
    if df < 1.0 or df_within < 1.0 or within <= 0.0:
        return -INFINITY if beyond <= 0.0 or within > 0.0 or df < 1.0 or df_within < 1.0 else INFINITY
    root = ((beyond / df) / (within / df_within)) ** (1.0 / 3.0)
    a, b = 2.0 / (9.0 * df), 2.0 / (9.0 * df_within)
    return ((1.0 - b) * root - (1.0 - a)) / (b * root * root + a) ** 0.5


def score_pairs(
    const uint8_t[:, ::1] codes, const uint8_t[:, ::1] sample, const int64_t[:, ::1] pairs, const uint8_t[:, :, ::1] with_steps,
    const double[::1] means, const double[::1] squares, const int64_t[:, :, ::1] words, const double[:, ::1] lane_means,
    const double[:, ::1] lane_squares, double[:, ::1] out, double[::1] largest
):
    """The whole screen of a block of pairs.

    codes : uint8 (p, n).  sample : uint8 (p, m), the rows of the shuffles.  pairs : int64 (q, 2).
    with_steps : uint8 (t, p, n), 16 code + step.  means, squares : float64 (t,).  words : int64 (t, m, WORDS).
    lane_means, lane_squares : float64 (t, LANES).  out : float64 (q, 5): beyond, within, their degrees of freedom, score.
    largest : float64 (LANES,). out and largest are modified in place.
    """
    cdef int64_t T, q, t, k, i, j, c
    cdef int32_t[::1] table = np.empty(CELLS * SIDE, np.int32)
    cdef int64_t[:, ::1] scratch = np.empty((CELLS, WORDS), np.int64)
    cdef double[:, ::1] n_of = np.empty((SIDE, SIDE)), L = np.empty((SIDE, SIDE))
    cdef double[:, ::1] rhs = np.empty((SIDE, LANES)), rhs_one = np.empty((SIDE, 1))
    cdef double[:, ::1] subset = np.empty((LANES, 2)), total = np.empty((LANES, 2)), one = np.empty((1, 2))
    cdef int64_t[::1] counts = np.empty(CELLS, np.int64), sums = np.empty(CELLS, np.int64)
    lane_array, cell_array = np.empty((CELLS, LANES)), np.empty((CELLS, 1))
    cdef double[:, ::1] lanes = lane_array, cells = cell_array
    cdef double[:, :, ::1] lane_grid = lane_array.reshape(SIDE, SIDE, LANES), cell_grid = cell_array.reshape(SIDE, SIDE, 1)
    cdef double score, df, df_within
    with nogil:
        T = with_steps.shape[0]
        for q in range(pairs.shape[0]):
            i, j = pairs[q, 0], pairs[q, 1]
            out[q] = 0.0
            for t in range(T):
                _add_cells(codes[i], with_steps[t, j], table, counts, sums)
                for c in range(CELLS):
                    n_of[c // SIDE, c % SIDE] = counts[c]
                    cells[c, 0] = sums[c] - counts[c] * means[t]
                df, df_within = _beyond_adding(n_of, cell_grid, squares[t : t + 1], L, rhs_one, one)
                # Classes: explained and left-over variation of their indicators add up.
                out[q, 0] += one[0, 0]
                out[q, 1] += one[0, 1]
                out[q, 2], out[q, 3] = df, df_within
            out[q, 4] = normal_score(out[q, 0], out[q, 1], out[q, 2], out[q, 3])
            total[:] = 0.0
            for t in range(T):
                counts[:] = 0
                lanes[:] = 0.0
                _add_step_lanes(sample[i], sample[j], words[t], scratch, counts, lanes)
                for c in range(CELLS):
                    n_of[c // SIDE, c % SIDE] = counts[c]
                    for k in range(LANES):
                        lanes[c, k] -= counts[c] * lane_means[t, k]
                df, df_within = _beyond_adding(n_of, lane_grid, lane_squares[t], L, rhs, subset)
                for k in range(LANES):
                    total[k, 0] += subset[k, 0]
                    total[k, 1] += subset[k, 1]
            for k in range(LANES):
                score = normal_score(total[k, 0], total[k, 1], df, df_within)
                if score > largest[k]:
                    largest[k] = score
