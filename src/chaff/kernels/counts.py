"""Counting on bytes: two-way tables of binned columns against a binned target, one pass per column.

Chi-square of tables of counts whose rows' classes are permuted.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel, lean_kernel
from chaff.kernels.random_draws import below, mix


@lean_kernel
def shuffled_sums(classes, ends, load, seed, counts, out):
    """out[t] = sum over levels and classes of count² / (rows of the level x rows of the class), of the t-th shuffle.

    classes : int64 (n,), 0..k-1; shuffled in place.  ends : int64 (levels,), where each level's rows end.
    load : float64 (k,), 1 / rows of the class.  counts : int64 (k,), zero.  out : float64 (shuffles,).
    """
    n = classes.size
    state = np.uint64(seed)
    for t in range(out.size):
        for i in range(n - 1, 0, -1):  # Fisher and Yates
            state, z = mix(state)
            j = below(z, i + 1)
            c = classes[i]
            classes[i] = classes[j]
            classes[j] = c
        total = 0.0
        start = 0
        for level in range(ends.size):
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


@kernel
def two_way_counts(codes, target, weights, out):
    """out[f, b, t] += weight of the rows with code b of feature f and code t of the target.

    codes : uint8 (p, n), one contiguous row a feature.  target : int64 (n,), 0..classes-1.
    weights : float64 (n,), or length 0 for all ones.  out : float64 (p, 256, classes). Modified in place.
    """
    p, n = codes.shape
    if weights.size > 0:
        for f in range(p):
            own = codes[f]
            table = out[f]
            for i in range(n):
                table[own[i], target[i]] += weights[i]
    else:
        K = out.shape[2]
        # Whole numbers in two tables by turns: neighbouring rows of one cell then do not wait for each other.
        even, odd = np.zeros(256 * K, np.int64), np.zeros(256 * K, np.int64)
        for f in range(p):
            own = codes[f]
            even[:] = 0
            odd[:] = 0
            for i in range(0, n - 1, 2):
                even[own[i] * K + target[i]] += 1
                odd[own[i + 1] * K + target[i + 1]] += 1
            if n % 2:
                even[own[n - 1] * K + target[n - 1]] += 1
            flat = out[f].reshape(256 * K)
            for k in range(256 * K):
                flat[k] += even[k] + odd[k]


@kernel
def codes_by_cuts(values, cuts, out):
    """out[i] = 1 + how many cuts lie below values[i]; 0 where it is missing. For few cuts: every cut is held against
    every value, which needs no branch.

    values : float64 (n,).  cuts : float64 (c,), c < 255.  out : uint8 (n,). Modified in place.
    """
    n = values.size
    for start in range(0, n, 4096):
        subset = values[start : start + 4096]
        own = out[start : start + 4096]
        for i in range(subset.size):
            own[i] = 1 if subset[i] == subset[i] else 0
        for c in range(cuts.size):
            cut = cuts[c]
            for i in range(subset.size):
                own[i] += subset[i] > cut


@kernel
def sums_by_code(codes, values, weights, out):
    """out[f, b] += (weight, weight * value...) of the rows with code b of feature f.

    codes : uint8 (p, n).  values : float64 (n, t).  weights : float64 (n,), or length 0.
    out : float64 (p, 256, 1 + t). Modified in place.
    """
    p, n = codes.shape
    t = values.shape[1]
    weighted = weights.size > 0
    for f in range(p):
        for i in range(n):
            w = weights[i] if weighted else 1.0
            b = codes[f, i]
            out[f, b, 0] += w
            for k in range(t):
                out[f, b, 1 + k] += w * values[i, k]
