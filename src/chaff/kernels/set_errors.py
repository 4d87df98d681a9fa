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
    targets = A.shape[0] - first_target
    columns = np.empty(first_target, np.int64)
    W = np.empty((first_target, first_target + targets))  # upper triangle of the set's products, targets behind: rows lie together
    b = np.empty(first_target)
    begin = 0
    for s in range(ends.size):
        k = 0
        for m in range(begin, ends[s]):
            for c in range(starts[members[m]], starts[members[m] + 1]):
                columns[k] = c
                k += 1
        begin = ends[s]
        for i in range(k):
            row = A[columns[i]]
            for j in range(i, k):
                W[i, j] = row[columns[j]]
            for t in range(targets):
                W[i, k + t] = row[first_target + t]
        regular = True
        for i in range(k):
            d = W[i, i]
            if d <= tolerance * A[columns[i], columns[i]]:
                regular = False
                break
            for j in range(i + 1, k):
                f = W[i, j] / d
                above = W[i, j : k + targets]
                here = W[j, j : k + targets]
                for l in range(here.size):
                    here[l] -= f * above[l]
        if not regular:
            out[s] = np.nan
            continue
        total = 0.0
        for t in range(targets):
            y = first_target + t
            for i in range(k - 1, -1, -1):
                x = W[i, k + t]
                for l in range(i + 1, k):
                    x -= W[i, l] * b[l]
                b[i] = x / W[i, i]
            e = V[y, y]
            for i in range(k):
                row = V[columns[i]]
                half = 0.0
                for l in range(i):
                    half += b[l] * row[columns[l]]
                e += b[i] * (b[i] * row[columns[i]] + 2.0 * half - 2.0 * row[y])
            total += e
        out[s] = total
