"""Random draws of rows and columns, from streams that are named by tree and never shared.

Rows told apart by one number each.
"""

from libc.stdint cimport int32_t, int64_t, uint32_t, uint64_t


def mix_in(const uint64_t[::1] bits, const int64_t[::1] places, uint64_t[::1] hashes):
    """Take a column into the hash of each row, in place; 0 and -0 are equal, and so are all kinds of NaN.

    bits : uint64 (n,), float64 as it lies in memory.  places : int64 (rows,).  hashes : uint64 (rows,).
    """
    cdef int64_t i
    cdef uint64_t b, h
    with nogil:
        for i in range(hashes.shape[0]):  # 0x8… is -0, what lies above 0x7FF0… is NaN
            b = bits[places[i]]
            if b == <uint64_t>0x8000000000000000:
                b = b ^ b
            elif (b & <uint64_t>0x7FFFFFFFFFFFFFFF) > <uint64_t>0x7FF0000000000000:
                b = b | <uint64_t>0x7FFFFFFFFFFFFFFF | <uint64_t>0x8000000000000000
            h = (hashes[i] ^ b) * <uint64_t>0x9E3779B97F4A7C15
            h = (h ^ (h >> 32)) * <uint64_t>0xBF58476D1CE4E5B9
            hashes[i] = h ^ (h >> 29)


def times_drawn(uint64_t stream, int64_t draws, const double[::1] cumulated, const int64_t[::1] guide, int32_t[::1] times):
    """`draw_units` by itself: fills `times`, returns the state of the stream after it."""
    return draw_units(stream, draws, cumulated, &guide[0], times)


def columns_drawn(uint64_t state, int64_t[::1] order, int64_t want, uint32_t[::1] front):
    """`draw_columns` by itself: fills `order` and `front`, returns the state of the stream after it."""
    return draw_columns(state, order, want, &front[0])
