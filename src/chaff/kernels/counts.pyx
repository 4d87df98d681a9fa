"""Counting on bytes: two-way tables of binned columns against a binned target, one pass per column.

Chi-square of tables of counts whose rows' classes are permuted.
"""

import numpy as np

from libc.stdint cimport int64_t, uint8_t, uint64_t

from chaff.kernels.random_draws cimport below, mix


def shuffled_sums(
    int64_t[::1] classes, const int64_t[::1] ends, const double[::1] load, int64_t seed, int64_t[::1] counts, double[::1] out
):
    """out[t] = sum over levels and classes of count² / (rows of the level x rows of the class), of the t-th shuffle.

    classes : int64 (n,), 0..k-1; shuffled in place.  ends : int64 (levels,), where each level's rows end.
    load : float64 (k,), 1 / rows of the class.  counts : int64 (k,), zero.  out : float64 (shuffles,).
    """
    cdef int64_t n, t, i, start, level, j, c, end
    cdef uint64_t state, z
    cdef double total, own
    with nogil:
        n = classes.shape[0]
        state = <uint64_t>seed
        for t in range(out.shape[0]):
            for i in range(n - 1, 0, -1):  # Fisher and Yates
                state, z = mix(state)
                j = below(z, i + 1)
                c = classes[i]
                classes[i] = classes[j]
                classes[j] = c
            total = 0.0
            start = 0
            for level in range(ends.shape[0]):
                end = ends[level]
                own = 0.0
                for i in range(start, end):  # count² grows by 2 count + 1 with each row
                    c = classes[i]
                    own += (2 * counts[c] + 1) * load[c]
                    counts[c] += 1
                for i in range(start, end):
                    counts[classes[i]] = 0
                if end > start:
                    total += own / (end - start)
                start = end
            out[t] = total


def two_way_counts(const uint8_t[:, ::1] codes, const int64_t[::1] target, const double[::1] weights, double[:, :, ::1] out):
    """out[f, b, t] += weight of the rows with code b of feature f and code t of the target.

    codes : uint8 (p, n), one contiguous row a feature.  target : int64 (n,), 0..classes-1.
    weights : float64 (n,), or length 0 for all ones.  out : float64 (p, 256, classes). Modified in place.
    """
    cdef int64_t p, n, f, K, i, k
    cdef double[:, ::1] table
    cdef int64_t[::1] even = np.zeros(256 * out.shape[2], np.int64), odd = np.zeros(256 * out.shape[2], np.int64)
    cdef double *flat
    cdef const uint8_t *own
    with nogil:
        p, n = codes.shape[0], codes.shape[1]
        if weights.shape[0] > 0:
            for f in range(p):
                own = &codes[f, 0]
                table = out[f]
                for i in range(n):
                    table[own[i], target[i]] += weights[i]
        else:
            K = out.shape[2]
            # Whole numbers in two tables by turns: neighbouring rows of one cell then do not wait for each other.
            for f in range(p):
                own = &codes[f, 0]
                even[:] = 0
                odd[:] = 0
                for i in range(0, n - 1, 2):
                    even[own[i] * K + target[i]] += 1
                    odd[own[i + 1] * K + target[i + 1]] += 1
                if n % 2:
                    even[own[n - 1] * K + target[n - 1]] += 1
                flat = &out[f, 0, 0]
                for k in range(256 * K):
                    flat[k] += even[k] + odd[k]


def codes_by_cuts(const double[::1] values, const double[::1] cuts, uint8_t[::1] out):
    """out[i] = 1 + how many cuts lie below values[i]; 0 where it is missing. Halving without a branch: values come in no order, and
    a wrong guess costs more than a step.

    values : float64 (n,).  cuts : float64 (c,), c < 255, ascending.  out : uint8 (n,). Modified in place.
    """
    cdef int64_t i, base, left, half
    cdef double v
    with nogil:
        for i in range(values.shape[0]):
            v = values[i]
            base = 0
            left = cuts.shape[0]
            while left > 0:
                half = (left + 1) >> 1
                base += half * (cuts[base + half - 1] < v)
                left -= half
            out[i] = (v == v) * (1 + base)


def sums_by_code(const uint8_t[:, ::1] codes, const double[:, ::1] values, const double[::1] weights, double[:, :, ::1] out):
    """out[f, b] += (weight, weight * value...) of the rows with code b of feature f.

    codes : uint8 (p, n).  values : float64 (n, t).  weights : float64 (n,), or length 0.
    out : float64 (p, 256, 1 + t). Modified in place.
    """
    cdef int64_t t, f, p, n, i, k
    cdef bint weighted
    cdef double w
    cdef uint8_t b
    with nogil:
        p, n = codes.shape[0], codes.shape[1]
        t = values.shape[1]
        weighted = weights.shape[0] > 0
        for f in range(p):
            for i in range(n):
                w = weights[i] if weighted else 1.0
                b = codes[f, i]
                out[f, b, 0] += w
                for k in range(t):
                    out[f, b, 1 + k] += w * values[i, k]
