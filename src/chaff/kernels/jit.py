"""The only place that says how kernels are compiled.

Never fastmath: it licenses the compiler to drop tests for missing cells. `cache` keeps the machine code on disk, so that
only the first run ever compiles; `nogil` lets two Python threads run two kernels.

Many columns in one call: arrays handed to a kernel by their addresses.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba
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


LEAN: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy", "_nrt": False}

BARE: dict[str, Any] = {"no_cfunc_wrapper": True}  # nothing calls kernels from C

UNWRAPPED: dict[str, Any] = {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}


def kernel(fn: Callable[..., Any]) -> Any:
    return numba.njit(nogil=True, cache=True, error_model="numpy", **BARE)(fn)


def lean_kernel(fn: Callable[..., Any]) -> Any:
    """Without reference counts, which cost some 10 ns for every array handed to a helper: twenty a column and node of a tree.
    Such code must not allocate."""
    return numba.njit(**LEAN, **BARE)(fn)


def lean_helper(fn: Callable[..., Any]) -> Any:
    """Called by lean kernels only, so that no wrappers are compiled."""
    return numba.njit(**LEAN, **UNWRAPPED)(fn)


def compiled_before(dispatcher: Any) -> bool:
    """Whether machine code of this kernel's file lies in the cache and is newer than its source."""
    if not hasattr(dispatcher, "py_func"):
        return True  # nothing is compiled at all (NUMBA_DISABLE_JIT)
    source = Path(dispatcher.py_func.__code__.co_filename)
    folder = Path(dispatcher._cache.cache_path)
    stamp = source.stat().st_mtime
    return any(f.stat().st_mtime >= stamp for f in folder.glob(f"{source.stem}.*.nbi"))
