"""Rows told apart by one number each."""

from __future__ import annotations

import numpy as np

from chaff.kernels.jit import kernel

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
