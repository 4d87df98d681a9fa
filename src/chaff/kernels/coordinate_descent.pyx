"""Block coordinate descent for penalised quadratics."""

from libc.math cimport sqrt
from libc.stdint cimport int64_t


def descend(
    const double[:, ::1] G, double[::1] g, double[::1] b, const int64_t[::1] play, const int64_t[::1] starts, const double[::1] height,
    const double[::1] first, const double[::1] second, double tolerance, int64_t passes, double[::1] room
):
    """Minimise ½ b'Gb − c'b + Σ first_B |b_B| + ½ second_B |b_B|² over blocks in turn; returns (passes done, largest violation).

    G : float64 (k, k).  g : float64 (k,), c − G b, kept so.  b : float64 (k,). Both modified in place.
    play : int64, the blocks that may move.  starts : int64 (blocks + 1,).
    height : float64 (blocks,), the largest eigenvalue of each block of G.
    first, second : float64 (blocks,).  room : float64 (widest block,).
    The violation is that of the optimality conditions when a block's turn came, in units of g.
    Source: Friedman, Hastie and Tibshirani, 2010; blocks: Yuan and Lin, 2006, each majorised by its height.
    """
    cdef int64_t k, done, _, block, j, lo, hi, i
    cdef double worst, h, size, shrink, u, move
    cdef const double *row
    with nogil:
        k = b.shape[0]
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
                size = sqrt(size)
                shrink = 0.0
                if size > first[block]:
                    shrink = (1.0 - first[block] / size) / (h + second[block])
                for j in range(lo, hi):
                    move = shrink * room[j - lo] - b[j]
                    if move != 0.0:
                        b[j] += move
                        worst = max(worst, abs(move) * (h + second[block]))
                        row = &G[j, 0]
                        for i in range(k):
                            g[i] -= move * row[i]
            if worst <= tolerance:
                break
    return done, worst
