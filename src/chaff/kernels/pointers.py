"""Many columns in one call: arrays handed to a kernel by their addresses.

Three hundred kernel calls for three hundred columns make two threads wait for the interpreter's lock at each of them (measured:
two lanes then took as long as one). A kernel that gets all addresses at once takes the lock once. Whoever passes addresses keeps
the arrays alive until the call returns.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import types
from numba.extending import intrinsic

from chaff.arrays import Floats, Ints


@intrinsic
def float_pointer(typingctx, address):
    """A pointer to float64 from an address, for `numba.carray` inside a kernel."""

    def codegen(context, builder, signature, arguments):
        return builder.inttoptr(arguments[0], context.get_value_type(signature.return_type))

    return types.CPointer(types.float64)(types.int64), codegen


def addresses_of(columns: list[Floats]) -> Ints:
    """Addresses of contiguous float64 arrays of one length.

    Raises
    ------
    ValueError
        For any other array: a kernel would read what is not there.
    """
    lengths = {c.size for c in columns}
    if len(lengths) > 1 or any(c.dtype != float or not c.flags.c_contiguous for c in columns):
        raise ValueError("columns must be contiguous float64 arrays of one length")
    return np.array([_address(c) for c in columns], np.int64)


def _address(column: Any) -> int:
    return int(column.__array_interface__["data"][0])
