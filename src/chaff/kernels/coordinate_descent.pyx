"""Coordinate descent for penalised quadratics: by blocks, and by columns with a whole path of penalties."""

import numpy as np

from libc.math cimport sqrt
from libc.stdint cimport int64_t, uint8_t

cpdef enum:
    PASSES = 4
    MOST_PASSES = 20000
    MOST_STEPS = 60
    MOST_ROUNDS = 200


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


cdef inline bint solve_symmetric(double[:, ::1] H, double *x, int64_t m) noexcept nogil:
    """x ← H⁻¹ x for the leading m rows, of H the upper triangle, overwritten; False where H is not positive definite."""
    cdef int64_t i, j, k
    cdef double d, f
    cdef double *above
    cdef double *here
    for k in range(m):
        d = H[k, k]
        if not d > 0.0:
            return False
        above = &H[k, 0]
        for i in range(k + 1, m):
            f = above[i] / d
            here = &H[i, 0]
            for j in range(i, m):
                here[j] -= f * above[j]
            x[i] -= f * x[k]
    for k in range(m - 1, -1, -1):
        here = &H[k, 0]
        f = x[k]
        for j in range(k + 1, m):
            f -= here[j] * x[j]
        x[k] = f / here[k]
    return True


cdef bint by_support(
    const double[:, ::1] G, double[::1] b, double[::1] g, const uint8_t[::1] play, const double[::1] first, const double[::1] second,
    double tolerance, double[:, ::1] rooms, int64_t[::1] at
) noexcept nogil:
    """The exact minimum by solving for what is in, signs as they stand; what crosses zero on the way goes out, what pulls too hard
    comes in. False, and b and g as they were, when that takes too many steps.

    Source: Osborne, Presnell and Turlach, 2000; Lee et al., 2007.
    """
    cdef int64_t k = b.shape[0], m, i, j, q, turn, top
    cdef double *sign = &rooms[k, 0]
    cdef double *step = &rooms[k + 1, 0]
    cdef double *b_now = &rooms[k + 2, 0]
    cdef double *g_now = &rooms[k + 3, 0]
    cdef const double *row
    cdef double share, way, moved, pull, largest
    for i in range(k):
        b_now[i] = b[i]
        g_now[i] = g[i]
        sign[i] = (b[i] > 0.0) - (b[i] < 0.0)
    for turn in range(MOST_STEPS):
        m = 0
        for i in range(k):
            if sign[i] != 0.0:
                at[m] = i
                m += 1
        for q in range(m):
            i = at[q]
            row = &G[i, 0]
            for j in range(q, m):
                rooms[q, j] = row[at[j]]
            rooms[q, q] += second[i]
            step[q] = g_now[i] - second[i] * b_now[i] - first[i] * sign[i]
        if not solve_symmetric(rooms, step, m):
            return False
        share = 1.0
        for q in range(m):
            i = at[q]
            if first[i] > 0.0 and (b_now[i] + step[q]) * sign[i] <= 0.0:
                share = min(share, max(0.0, -b_now[i] / (step[q] if step[q] != 0.0 else 1.0)))
        for q in range(m):
            i = at[q]
            moved = share * step[q]
            if first[i] > 0.0 and (b_now[i] + step[q]) * sign[i] <= 0.0:
                way = -b_now[i] / (step[q] if step[q] != 0.0 else 1.0)
                if way <= share:
                    sign[i] = 0.0
                    moved = -b_now[i]
            b_now[i] = b_now[i] + moved if sign[i] != 0.0 else 0.0
            row = &G[i, 0]
            for j in range(k):
                g_now[j] -= moved * row[j]
        if share < 1.0:
            continue
        top = -1
        largest = 0.3 * tolerance
        for i in range(k):
            pull = abs(g_now[i]) - first[i]
            if play[i] and sign[i] == 0.0 and pull > largest:
                largest = pull
                top = i
        if top < 0:
            for i in range(k):
                b[i] = b_now[i]
                g[i] = g_now[i]
            return True
        sign[top] = 1.0 if g_now[top] > 0.0 else -1.0
    return False


cdef void minimum_inside(
    const double[:, ::1] G, double[::1] b, double[::1] g, const uint8_t[::1] play, const double[::1] first, const double[::1] second,
    double tolerance, double[:, ::1] rooms, int64_t[::1] at
) noexcept nogil:
    """The minimum over the columns in play: descent, and where that is slow, linear systems on what is in. b and g = c − G b are
    modified in place."""
    cdef int64_t k = b.shape[0], i, j, done = 0, turn, passes, members = 0
    cdef double worst, move, u, h, size
    cdef const double *row
    for i in range(k):
        members += b[i] != 0.0
    passes = max(PASSES, <int64_t>(members * members / (3 * k)))  # as many as cost what a linear system costs
    while done < MOST_PASSES:
        for turn in range(passes):
            worst = 0.0
            for j in range(k):
                h = G[j, j]
                if not play[j] or h <= 0.0:
                    continue
                u = g[j] + h * b[j]
                size = abs(u) - first[j]
                move = ((size / (h + second[j]) if u > 0.0 else -size / (h + second[j])) if size > 0.0 else 0.0) - b[j]
                if move != 0.0:
                    b[j] += move
                    worst = max(worst, abs(move) * (h + second[j]))
                    row = &G[j, 0]
                    for i in range(k):
                        g[i] -= move * row[i]
            done += 1
            if worst <= 0.3 * tolerance:
                return
        if by_support(G, b, g, play, first, second, tolerance, rooms, at):
            return
        passes = min(2 * passes, 400)


def minimise(
    const double[:, ::1] G, double[::1] b, double[::1] g, const uint8_t[::1] play, const double[::1] first, const double[::1] second,
    double tolerance
):
    """Minimise ½ b'Gb − c'b + Σ first |b| + ½ Σ second b² over the columns in play, from where b stands.

    G : float64 (k, k).  b : float64 (k,).  g : float64 (k,), c − G b. Both modified in place.  play : bool (k,).
    first, second : float64 (k,).
    """
    cdef int64_t k = b.shape[0]
    cdef double[:, ::1] rooms = np.empty((k + 4, k))
    cdef int64_t[::1] at = np.empty(k, np.int64)
    with nogil:
        minimum_inside(G, b, g, play, first, second, tolerance, rooms, at)


def solve_path(
    const double[:, ::1] G, const double[::1] c, const double[::1] factors, double share, const double[::1] penalties, double before,
    double tolerance, double[:, ::1] B, double[:, ::1] gradients, double[::1] violations
):
    """The minimum at each of the penalties, from the largest to the smallest, each begun where the last one ended.

    G : float64 (k, k).  c : float64 (k,).  factors : float64 (k,), what each column is charged by.  share : α of the lengths.
    before : the penalty at which nothing is in.  B, gradients : float64 (penalties, k), violations : float64 (penalties,). Filled.
    Columns come into play by the sequential strong rule (Tibshirani et al., 2012); what it leaves out wrongly is found by the
    optimality conditions and put in.
    """
    cdef int64_t k = c.shape[0], p, i, j, turn
    cdef double[::1] b = np.zeros(k), g = np.array(c), first = np.empty(k), second = np.empty(k)
    cdef double[:, ::1] rooms = np.empty((k + 4, k))
    cdef int64_t[::1] at = np.empty(k, np.int64)
    cdef uint8_t[::1] play = np.empty(k, np.uint8)
    cdef double value, off, worst
    cdef bint outside
    cdef const double *row
    with nogil:
        for p in range(penalties.shape[0]):
            value = penalties[p]
            for i in range(k):
                first[i] = value * share * factors[i]
                second[i] = value * (1.0 - share) * factors[i]
                off = (2.0 * value - max(before, value)) * share * factors[i]
                play[i] = abs(g[i]) >= off or b[i] != 0.0 or share * factors[i] == 0.0
            for turn in range(MOST_ROUNDS):
                minimum_inside(G, b, g, play, first, second, tolerance, rooms, at)
                for i in range(k):  # afresh, so that rounding does not add up
                    g[i] = c[i]
                for j in range(k):
                    if b[j] != 0.0:
                        row = &G[j, 0]
                        for i in range(k):
                            g[i] -= b[j] * row[i]
                worst = 0.0
                outside = False
                for i in range(k):
                    if b[i] != 0.0:
                        off = abs(g[i] - second[i] * b[i] - (first[i] if b[i] > 0.0 else -first[i]))
                    else:
                        off = max(0.0, abs(g[i]) - first[i])
                    worst = max(worst, off)
                    if off > tolerance and not play[i]:
                        play[i] = True
                        outside = True
                if not outside:
                    break
            for i in range(k):
                B[p, i] = b[i]
                gradients[p, i] = g[i]
            violations[p] = worst
            before = value
