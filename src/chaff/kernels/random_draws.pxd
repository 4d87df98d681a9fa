"""Random draws of rows and columns, from streams that are named by tree and never shared."""

from libc.stdint cimport int32_t, int64_t, uint32_t, uint64_t


cdef inline (uint64_t, uint64_t) mix(uint64_t state) noexcept nogil:
    """The next number of a splitmix64 stream (Steele, Lea and Flood 2014): returns (state, draw)."""
    cdef uint64_t z
    state = state + <uint64_t>0x9E3779B97F4A7C15
    z = state
    z = (z ^ (z >> <uint64_t>30)) * <uint64_t>0xBF58476D1CE4E5B9
    z = (z ^ (z >> <uint64_t>27)) * <uint64_t>0x94D049BB133111EB
    return state, z ^ (z >> <uint64_t>31)


cdef inline int64_t below(uint64_t z, int64_t n) noexcept nogil:
    """A number in 0..n-1 from 32 random bits: multiply and shift, no division."""
    return <int64_t>(((z >> <uint64_t>32) * <uint64_t>n) >> <uint64_t>32)


cdef inline uint64_t draw_units(
    uint64_t state, int64_t draws, const double[::1] cumulated, const int64_t *guide, int32_t[::1] times
) noexcept nogil:
    """times[u]: how often unit u was drawn, with replacement. Modified in place.

    draws : with replacement; below 0 so many without; 0 where `times` is given.
    cumulated : float64 (units,) weights summed up, so that the chance is in proportion to the weight; empty for equal chances.
    guide : int64 (units,), where a search in `cumulated` may begin.
    """
    cdef int64_t n, u, _, wanted, take
    cdef double share
    cdef uint64_t z
    n = times.shape[0]
    if draws == 0:
        return state
    if draws < 0:  # selection sampling (Fan, Muller and Rezucha 1962)
        wanted = -draws
        for u in range(n):
            state, z = mix(state)
            take = <int64_t>(below(z, n - u) < wanted)
            times[u] = take
            wanted -= take
        return state
    for u in range(n):
        times[u] = 0
    if cumulated.shape[0] == 0:
        for _ in range(draws):
            state, z = mix(state)
            times[below(z, n)] += 1
        return state
    for _ in range(draws):
        state, z = mix(state)
        share = <double>(z >> <uint64_t>11) * (1.0 / 9007199254740992.0)
        u = guide[<int64_t>(share * n)]
        share *= cumulated[n - 1]
        while cumulated[u] <= share and u < n - 1:
            u += 1
        times[u] += 1
    return state


cdef inline uint64_t draw_columns(uint64_t state, int64_t[::1] order, int64_t want, uint32_t *front) noexcept nogil:
    """Move `want` columns drawn without replacement to the front of `order`, and copy them to `front`. Modified in place."""
    cdef int64_t p, k, j, t
    cdef uint64_t z
    p = order.shape[0]
    for k in range(want):
        state, z = mix(state)
        j = k + below(z, p - k)
        t = order[k]
        order[k] = order[j]
        order[j] = t
        front[k] = order[k]
    return state
