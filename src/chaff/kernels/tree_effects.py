"""What each column brings to each prediction of grown trees: steps along the path, and Shapley values over all leaves."""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel, lean_helper
from chaff.kernels.tree_walks import goes_left


@kernel
def node_means(node, first, pick, value, weight, mean):
    """Weight and mean value of every node from its leaves. A child always stands behind its parent.

    weight : float64 (nodes,).  mean : float64 (nodes, t). Both modified in place.
    """
    for t in range(first.size - 1):
        lo = first[t]
        for k in range(first[t + 1] - 1, lo - 1, -1):
            child = lo + (node[k] >> 32)
            if child == k:
                weight[k] = max(float(pick[k]), 1.0)
                for z in range(value.shape[1]):
                    mean[k, z] = value[k, z]
                continue
            a, b = weight[child], weight[child + 1]
            weight[k] = a + b
            for z in range(value.shape[1]):
                mean[k, z] = (a * mean[child, z] + b * mean[child + 1, z]) / (a + b)


@kernel
def add_steps(codes, node, first, pick, sets, mean, out):
    """Add to out[i, column] what the splits on a column on row i's way changed in its mean, over all trees.

    codes : uint8 (n, p).  mean : float64 (nodes, t).  out : float64 (n, p, t). Modified in place.
    """
    for t in range(first.size - 1):
        lo = first[t]
        for i in range(codes.shape[0]):
            k = np.int64(0)
            while True:
                w = node[lo + k]
                if (w >> 32) == k:
                    break
                f = (w >> 12) & 0xFFFFF
                at = pick[lo + k] if w & 512 else 0
                child = (w >> 32) + (0 if goes_left(w, np.int64(codes[i, f]), sets, at) else 1)
                for z in range(mean.shape[1]):
                    out[i, f, z] += mean[lo + child, z] - mean[lo + k, z]
                k = child


@lean_helper
def product(m, one, zero, terms):
    """terms[s]: coefficient of t^s in the product over j of (zero_j + one_j t)."""
    terms[0] = 1.0
    for j in range(m):
        terms[j + 1] = terms[j] * one[j]
        for s in range(j, 0, -1):
            terms[s] = terms[s] * zero[j] + terms[s - 1] * one[j]
        terms[0] *= zero[j]


@lean_helper
def without(m, one, zero, terms, chances):
    """Sum over s of the chances times the coefficients of the product with one factor (zero + one t) divided out."""
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


@kernel
def add_shapley(codes, node, first, pick, sets, value, weight, chances, out):
    """Add Shapley values of every row and column over all trees, a column that is not known followed down both sides by weight.

    chances : float64 (longest + 1, longest + 1), |S|! (m − |S| − 1)! / m! at [m, |S|].
    out : float64 (n, p, t). Modified in place.  Source: Lundberg et al., 2020, leaf by leaf.
    """
    n = codes.shape[0]
    deep = chances.shape[0] + 1
    column = np.empty(deep, np.int64)
    zero = np.empty(deep)
    one = np.empty(deep)
    terms = np.empty(deep + 1)
    way = np.empty(deep + 1, np.int64)
    for t in range(first.size - 1):
        lo, size = first[t], first[t + 1] - first[t]
        parent = np.full(size, -1, np.int64)
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
                    side = 0 if goes_left(w, np.int64(codes[i, f]), sets, pick[lo + up] if w & 512 else 0) else 1
                    if (w >> 32) + side != way[q]:
                        for j in range(m):
                            if column[j] == f:
                                one[j] = 0.0
                product(m, one, zero, terms)
                for j in range(m):
                    part = without(m, one[j], zero[j], terms, chances[m]) * (one[j] - zero[j])
                    for z in range(value.shape[1]):
                        out[i, column[j], z] += part * value[lo + leaf, z]
