"""Walking grown trees: predictions, and what they become when one feature is shuffled."""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel

ONE = np.uint64(1)


@kernel
def goes_left(mask, code):
    return (mask[code >> 6] >> np.uint64(code & 63)) & ONE != 0


@kernel
def add_predictions(codes, feature, left, right, mask, value, out):
    """Add one tree's leaf values to `out`.  codes : uint8 (n, p).  value : float64 (nodes, t).  out : float64 (n, t)."""
    for i in range(codes.shape[0]):
        k = 0
        while feature[k] >= 0:
            k = left[k] if goes_left(mask[k], codes[i, feature[k]]) else right[k]
        for t in range(out.shape[1]):
            out[i, t] += value[k, t]


@kernel
def add_shuffle_changes(codes, feature, left, right, mask, value, partner, lo, hi, out):
    """Add how one tree's prediction changes when one column takes another row's code.

    Only columns on a row's own path can change its prediction, and only when the new code leaves the set of codes that all
    of the path's tests on that column send the same way; the walk then restarts at the first node of that column.

    codes : uint8 (n, p).  partner : int64 (shuffles, n), the row that lends its code.  Rows lo..hi-1 are done.
    out : float64 (shuffles, p, hi - lo, t). Modified in place.
    """
    path = np.empty(512, np.int64)
    stay = np.empty(4, np.uint64)
    targets = value.shape[1]
    for i in range(lo, hi):
        k = 0
        d = 0
        while feature[k] >= 0:
            if d < path.size:
                path[d] = k
            d += 1
            k = left[k] if goes_left(mask[k], codes[i, feature[k]]) else right[k]
        end = k
        d = min(d, path.size)
        for q in range(d):
            j = feature[path[q]]
            done = False
            for w in range(q):
                if feature[path[w]] == j:
                    done = True
                    break
            if done:
                continue
            for w in range(4):
                stay[w] = ~np.uint64(0)
            for w in range(q, d):
                node = path[w]
                if feature[node] == j:
                    same = goes_left(mask[node], codes[i, j])
                    for x in range(4):
                        stay[x] &= mask[node, x] if same else ~mask[node, x]
            for s in range(partner.shape[0]):
                code = codes[partner[s, i], j]
                if goes_left(stay, code):
                    continue
                k = path[q]
                while feature[k] >= 0:
                    f = feature[k]
                    k = left[k] if goes_left(mask[k], code if f == j else codes[i, f]) else right[k]
                for t in range(targets):
                    out[s, j, i - lo, t] += value[k, t] - value[end, t]
