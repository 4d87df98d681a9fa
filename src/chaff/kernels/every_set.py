"""Cross-validated error of every set there is: each set is its parent with one feature more, whose tables hold only what may still come.

Half of all sets are a number away from their parent, a quarter need a table of one column, and so on: a set costs a few operations,
whatever the number of columns. Both tables lose the columns that came in: A by elimination, V by the same change of vectors, so that
V's last entries are the test error. Source: the regression tree of Furnival and Wilson, 1974, with test moments carried along.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel, lean_helper, lean_kernel


@lean_helper
def bring_in(T, depth, at, q, base, to, c, tolerance):
    """Bring in one column; what is behind it goes to the tables of another depth. False: singular.

    T : float64 (depths, 2, size, size): A and V of every depth.  at : the column's place at `depth`, of q columns and targets there.
    base : its diagonal in A before anything came in.  c : float64 (>= q,), overwritten.
    """
    d = T[depth, 0, at, at]
    if d <= tolerance * base:
        return False
    v = T[depth, 1, at, at]
    for i in range(at + 1, q):
        c[i] = T[depth, 0, at, i] / d
    for i in range(at + 1, q):
        f = c[i]
        g = T[depth, 1, at, i] - f * v
        a = T[depth, 0, at, i]
        to_i = i - at - 1
        for j in range(i, q):
            T[to, 0, to_i, j - at - 1] = T[depth, 0, i, j] - a * c[j]
            T[to, 1, to_i, j - at - 1] = T[depth, 1, i, j] - f * T[depth, 1, at, j] - g * c[j]
    return True


@lean_helper
def pass_on(T, depth, at, q, to):
    """What is behind a place goes to another depth as it is."""
    for i in range(at, q):
        for j in range(i, q):
            T[to, 0, i - at, j - at] = T[depth, 0, i, j]
            T[to, 1, i - at, j - at] = T[depth, 1, i, j]


@lean_helper
def bring_in_all(T, depth, at, width, q, base, first, to, spare, c, tolerance):
    """Bring in a feature of several columns (or none), by way of two spare depths. False: singular."""
    if width == 0:
        pass_on(T, depth, at, q, to)
        return True
    here, place, left = depth, at, q
    for k in range(width):
        there = to if k == width - 1 else spare + k % 2
        if not bring_in(T, here, place, left, base[first + k], there, c, tolerance):
            return False
        here, left, place = there, left - place - 1, 0
    return True


@lean_kernel
def walk_all(T, base, start, targets, tolerance, c, last, following, mask, out):
    """Error of every set; see `errors_of_all`, which makes room for it. T[0] holds the tables of nothing, the last three are spare."""
    p = start.size - 1
    size = T.shape[2]
    spare = T.shape[0] - 3
    depth = 0
    while depth >= 0:
        j = following[depth]
        if j >= p:
            depth -= 1
            continue
        following[depth] += 1
        from_ = start[last[depth] + 1]
        q = size - from_
        at = start[j] - from_
        here = mask[depth] | (1 << j)
        width = start[j + 1] - start[j]
        if width == 1:
            d = T[depth, 0, at, at]
            if d <= tolerance * base[start[j]]:
                continue
            e = 0.0
            for t in range(q - targets, q):
                x = T[depth, 0, at, t] / d
                e += T[depth, 1, t, t] - 2.0 * x * T[depth, 1, at, t] + x * x * T[depth, 1, at, at]
            out[here] = e
            if j == p - 1:
                continue
            bring_in(T, depth, at, q, base[start[j]], depth + 1, c, tolerance)
        else:
            to = depth + 1 if j < p - 1 else spare + 2
            if not bring_in_all(T, depth, at, width, q, base, start[j], to, spare, c, tolerance):
                continue
            end = q - at - width
            e = 0.0
            for t in range(end - targets, end):
                e += T[to, 1, t, t]
            out[here] = e
        if j < p - 1:
            depth += 1
            last[depth], following[depth], mask[depth] = j, j + 1, here


@kernel
def errors_of_all(A, V, base, widths, targets, tolerance, out):
    """Error of every set of the features in one fold.

    A, V : float64 (q, q): columns of the features one after the other, targets last. Not modified.  base : float64 (q,).
    widths : int64 (p,): live columns of each feature in this fold.
    out : float64 (2 ** p,): by the set as a number, feature k its bit k. Only regular sets are written.
    """
    p = widths.size
    size = A.shape[0]
    T = np.empty((p + 4, 2, size, size))
    T[0, 0] = A
    T[0, 1] = V
    start = np.zeros(p + 1, np.int64)
    for k in range(p):
        start[k + 1] = start[k] + widths[k]
    last, following, mask = np.zeros(p + 1, np.int64), np.zeros(p + 1, np.int64), np.zeros(p + 1, np.int64)
    last[0] = -1
    out[0] = 0.0
    for t in range(size - targets, size):
        out[0] += V[t, t]
    walk_all(T, base, start, targets, tolerance, np.empty(size), last, following, mask, out)
