"""Random draws of rows and columns, from streams that are named by tree and never shared.

Rows told apart by one number each.
"""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel, lean_helper

MINUS_ZERO = np.uint64(0x8000000000000000)
INFINITE = np.uint64(0x7FF0000000000000)
MAGNITUDE = np.uint64(0x7FFFFFFFFFFFFFFF)
ONE = np.uint64(0x9E3779B97F4A7C15)
TWO = np.uint64(0xBF58476D1CE4E5B9)
LOW, MIDDLE = np.uint64(29), np.uint64(32)


@kernel
def mix_in(bits, places, hashes):
    """Take a column into the hash of each row, in place; 0 and -0 are equal, and so are all kinds of NaN.

    bits : uint64 (n,), float64 as it lies in memory.  places : int64 (rows,).  hashes : uint64 (rows,).
    """
    for i in range(hashes.size):
        b = bits[places[i]]
        if b == MINUS_ZERO:
            b = b ^ b
        elif (b & MAGNITUDE) > INFINITE:
            b = b | MAGNITUDE | MINUS_ZERO
        h = (hashes[i] ^ b) * ONE
        h = (h ^ (h >> MIDDLE)) * TWO
        hashes[i] = h ^ (h >> LOW)


@lean_helper
def mix(state):
    """The next number of a splitmix64 stream (Steele, Lea and Flood 2014): returns (state, draw)."""
    state = state + np.uint64(0x9E3779B97F4A7C15)
    z = state
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return state, z ^ (z >> np.uint64(31))


@lean_helper
def below(z, n):
    """A number in 0..n-1 from 32 random bits: multiply and shift, no division."""
    return np.int64(((z >> np.uint64(32)) * np.uint64(n)) >> np.uint64(32))


@lean_helper
def draw_units(state, draws, cumulated, guide, times):
    """times[u]: how often unit u was drawn, with replacement. Modified in place.

    draws : with replacement; below 0 so many without; 0 where `times` is given.
    cumulated : float64 (units,) weights summed up, so that the chance is in proportion to the weight; empty for equal chances.
    guide : int64 (units,), where a search in `cumulated` may begin.
    """
    n = times.size
    if draws == 0:
        return state
    if draws < 0:  # selection sampling (Fan, Muller and Rezucha 1962)
        wanted = -draws
        for u in range(n):
            state, z = mix(state)
            take = np.int64(below(z, n - u) < wanted)
            times[u] = take
            wanted -= take
        return state
    for u in range(n):
        times[u] = 0
    if cumulated.size == 0:
        for _ in range(draws):
            state, z = mix(state)
            times[below(z, n)] += 1
        return state
    for _ in range(draws):
        state, z = mix(state)
        share = float(z >> np.uint64(11)) * (1.0 / 9007199254740992.0)
        u = guide[np.int64(share * n)]
        share *= cumulated[n - 1]
        while cumulated[u] <= share and u < n - 1:
            u += 1
        times[u] += 1
    return state


@lean_helper
def draw_columns(state, order, want, front):
    """Move `want` columns drawn without replacement to the front of `order`, and copy them to `front`. Modified in place."""
    p = order.size
    for k in range(want):
        state, z = mix(state)
        j = k + below(z, p - k)
        t = order[k]
        order[k] = order[j]
        order[j] = t
        front[k] = order[k]
    return state
