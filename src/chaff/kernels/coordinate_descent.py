"""Block coordinate descent for penalised quadratics."""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel


@kernel
def descend(G, g, b, play, starts, height, first, second, tolerance, passes, room):
    """Minimise ½ b'Gb − c'b + Σ first_B |b_B| + ½ second_B |b_B|² over blocks in turn; returns (passes done, largest violation).

    G : float64 (k, k).  g : float64 (k,), c − G b, kept so.  b : float64 (k,). Both modified in place.
    play : int64, the blocks that may move.  starts : int64 (blocks + 1,).
    height : float64 (blocks,), the largest eigenvalue of each block of G.
    first, second : float64 (blocks,).  room : float64 (widest block,).
    The violation is that of the optimality conditions when a block's turn came, in units of g.
    Source: Friedman, Hastie and Tibshirani, 2010; blocks: Yuan and Lin, 2006, each majorised by its height.
    """
    k = b.size
    worst = 0.0
    done = 0
    for _ in range(passes):
        worst = 0.0
        done += 1
        for block in play:
            lo, hi = starts[block], starts[block + 1]
            h = height[block]
            if h <= 0.0:
                continue
            size = 0.0
            for j in range(lo, hi):
                u = g[j] + h * b[j]
                room[j - lo] = u
                size += u * u
            size = np.sqrt(size)
            shrink = 0.0
            if size > first[block]:
                shrink = (1.0 - first[block] / size) / (h + second[block])
            for j in range(lo, hi):
                move = shrink * room[j - lo] - b[j]
                if move != 0.0:
                    b[j] += move
                    worst = max(worst, abs(move) * (h + second[block]))
                    row = G[j]
                    for i in range(k):
                        g[i] -= move * row[i]
        if worst <= tolerance:
            break
    return done, worst
