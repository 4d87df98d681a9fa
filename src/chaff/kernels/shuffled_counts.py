"""Chi-square of tables of counts whose rows' classes are permuted."""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import lean_kernel
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
