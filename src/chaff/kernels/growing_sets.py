"""Cross-validated least squares while a set grows: what every addition would score, without tables of all columns against all.

As in `sweep`, every column is replaced by its residual on the set, learned on the training rows; but only what is asked of the
residuals is kept: their own products, those with the targets, and the coefficients B of every column on the set. A step costs
columns x set size, where sweeping costs columns x columns: for thirty of three hundred a tenth.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel


@kernel
def enter(A, V, c, k, members, B, d, v, ay, vy, first_target, a, w):
    """Column c comes in as the k-th.

    A, V : float64 (q, q), training cross-products and test moments. Not modified.  members : int64 (>= k + 1,).
    B : float64 (q, >= k + 1).  d, v : float64 (q,): products of each residual with itself, on training and test rows.
    ay, vy : float64 (q, targets): with the targets' residuals.  All of these modified in place.  a, w : float64 (q,), overwritten.
    """
    q = A.shape[0]
    targets = q - first_target
    for j in range(q):
        w[j] = V[c, j]
    for s in range(k):
        f = B[c, s]
        row = V[members[s]]
        for j in range(q):
            w[j] -= f * row[j]
    for j in range(q):
        x = A[c, j]
        for s in range(k):
            x -= B[j, s] * A[c, members[s]]
        a[j] = x
    at_members = np.empty(k)
    for s in range(k):
        at_members[s] = w[members[s]]
    for j in range(q):  # w becomes the test products of the residuals with that of c
        x = w[j]
        for s in range(k):
            x -= B[j, s] * at_members[s]
        w[j] = x
    dc, vcc = a[c], w[c]
    of_c = B[c, :k].copy()
    f_target = np.empty(targets)
    v_target = np.empty(targets)
    for t in range(targets):
        f_target[t] = a[first_target + t] / dc
        v_target[t] = w[first_target + t]
    for j in range(q):
        f = a[j] / dc
        d[j] -= f * a[j]
        v[j] += f * (f * vcc - 2.0 * w[j])
        for t in range(targets):
            ay[j, t] -= f * a[first_target + t]
            vy[j, t] += f * (f_target[t] * vcc - v_target[t]) - f_target[t] * w[j]
        for s in range(k):
            B[j, s] -= f * of_c[s]
        B[j, k] = f
    members[k] = c


@kernel
def errors_with(columns, d, v, ay, vy, base, first_target, tolerance, out):
    """Test error with each column added, NaN where it would be singular; a column of -1 adds nothing.

    columns : int64 (n,).  base : float64 (q,): d before anything came in.  out : float64 (n,). Modified in place.
    """
    targets = ay.shape[1]
    now = 0.0
    for t in range(targets):
        now += v[first_target + t]
    for i in range(columns.size):
        j = columns[i]
        if j < 0:
            out[i] = now
        elif d[j] <= tolerance * base[j]:
            out[i] = np.nan
        else:
            e = now
            for t in range(targets):
                x = ay[j, t] / d[j]
                e += x * (x * v[j] - 2.0 * vy[j, t])
            out[i] = e


@kernel
def errors_without(A, V, members, k, first_target, out):
    """Test error with each member taken out; NaN throughout where the set is singular.

    members : int64 (>= k,).  out : float64 (k,). Modified in place.
    """
    q = A.shape[0]
    targets = q - first_target
    L = np.empty((k, k))
    for i in range(k):
        for j in range(i + 1):
            x = A[members[i], members[j]]
            for l in range(j):
                x -= L[i, l] * L[j, l]
            if i == j:
                if x <= 0.0:
                    out[:k] = np.nan
                    return
                L[i, i] = np.sqrt(x)
            else:
                L[i, j] = x / L[j, j]
    C = np.zeros((k, k))  # the inverse, column by column
    for c in range(k):
        for i in range(c, k):
            x = 1.0 if i == c else 0.0
            for l in range(c, i):
                x -= L[i, l] * C[c, l]
            C[c, i] = x / L[i, i]
        for i in range(k - 1, -1, -1):
            x = C[c, i]
            for l in range(i + 1, k):
                x -= L[l, i] * C[c, l]
            C[c, i] = x / L[i, i]
    beta = np.empty((targets, k))
    gradient = np.empty((targets, k))
    now = 0.0
    for t in range(targets):
        y = first_target + t
        for i in range(k):
            x = 0.0
            for j in range(k):
                x += C[i, j] * A[members[j], y]
            beta[t, i] = x
        e = V[y, y]
        for i in range(k):
            x = -V[members[i], y]
            for j in range(k):
                x += V[members[i], members[j]] * beta[t, j]
            gradient[t, i] = x
            e += beta[t, i] * (x - V[members[i], y])
        now += e
    for s in range(k):
        curve = 0.0  # the test moment along the direction in which the others move when s goes
        for i in range(k):
            x = 0.0
            row = V[members[i]]
            for j in range(k):
                x += row[members[j]] * C[s, j]
            curve += C[s, i] * x
        e = now
        for t in range(targets):
            step = -beta[t, s] / C[s, s]
            along = 0.0
            for i in range(k):
                along += C[s, i] * gradient[t, i]
            e += step * (2.0 * along + step * curve)
        out[s] = e
