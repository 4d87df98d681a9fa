"""The word of a node: see `chaff.kernels.forest`."""

from libc.stdint cimport int64_t, uint64_t

cdef enum:
    CATEGORY = 512
    MISSING_RIGHT = 256
    LEAF = 255  # every code goes left, and the left child of a leaf is the leaf


cdef inline bint goes_left(int64_t word, int64_t code, const uint64_t[:, ::1] sets, int64_t at) noexcept nogil:
    """Whether a code goes to the left child of the node `word`."""
    if word & 512:
        return (sets[at, code >> 6] >> <uint64_t>(code & 63)) & 1 != <uint64_t>0
    return ((code - ((word >> 8) & 1)) & 255) <= (word & 255)
