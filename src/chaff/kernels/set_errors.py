"""Cross-validated squared error of many sets, each solved by itself from the tables of the folds."""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel


@kernel
def set_errors(A, V, starts, members, ends, first_target, tolerance, out):
    """Test error of each set in one fold, summed over targets; NaN where a set is singular.

    A, V : float64 (q, q): training cross-products with the penalty, test second moments about the training means. Not modified.
    starts : int64 (features + 1,): columns of each feature.
    members : int64: features of all sets, one set after the other;  ends : int64 (sets,): where each set ends in `members`.
    tolerance : a pivot below this share of the column's own diagonal is singular.  out : float64 (sets,). Modified in place.
    """
    q = A.shape[0]
    targets = q - first_target
    columns = np.empty(first_target, np.int64)
    L = np.empty((first_target, first_target))
    beta = np.empty((targets, first_target))
    begin = 0
    for s in range(ends.size):
        k = 0
        for m in range(begin, ends[s]):
            for c in range(starts[members[m]], starts[members[m] + 1]):
                columns[k] = c
                k += 1
        begin = ends[s]
        regular = True
        for i in range(k):
            ci = columns[i]
            for j in range(i + 1):
                x = A[ci, columns[j]]
                row_i = L[i, :j]
                row_j = L[j, :j]
                for l in range(j):
                    x -= row_i[l] * row_j[l]
                if i == j:
                    if x <= tolerance * A[ci, ci]:
                        regular = False
                        break
                    L[i, i] = np.sqrt(x)
                else:
                    L[i, j] = x / L[j, j]
            if not regular:
                break
        if not regular:
            out[s] = np.nan
            continue
        total = 0.0
        for t in range(targets):
            b = beta[t]
            y = first_target + t
            for i in range(k):
                x = A[columns[i], y]
                for l in range(i):
                    x -= L[i, l] * b[l]
                b[i] = x / L[i, i]
            for i in range(k - 1, -1, -1):
                x = b[i]
                for l in range(i + 1, k):
                    x -= L[l, i] * b[l]
                b[i] = x / L[i, i]
            e = V[y, y]
            for i in range(k):
                row = V[columns[i]]
                half = 0.0
                for l in range(i):
                    half += b[l] * row[columns[l]]
                e += b[i] * (b[i] * row[columns[i]] + 2.0 * half - 2.0 * row[y])
            total += e
        out[s] = total
