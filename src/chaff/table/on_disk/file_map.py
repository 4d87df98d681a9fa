"""A file as memory. Python's own map keeps a descriptor of its file open, and a table may have more columns than a process may have
descriptors (often 1,024); these keep none."""

from __future__ import annotations

import ctypes
import mmap
import os
import weakref
from typing import Any

import numpy as np
import numpy.typing as npt


class FileMap:
    """All of an open file, shared with it; given back when nobody holds the array any more.

    Parameters
    ----------
    number : int
        Descriptor of the file, which may be closed afterwards.
    size : int
        Bytes, more than 0.
    writable : bool

    Raises
    ------
    OSError
        When the system has no room for one more.
    """

    def __init__(self, number: int, size: int, writable: bool = False) -> None:
        self.size, self.writable = size, writable
        self._held: Any = None
        if _system is None:
            self._held = mmap.mmap(number, size, access=mmap.ACCESS_WRITE if writable else mmap.ACCESS_READ)
            return
        wanted = mmap.PROT_READ | (mmap.PROT_WRITE if writable else 0)
        address = _system.mmap(None, size, wanted, mmap.MAP_SHARED, number, 0)
        if address in (None, _FAILED):
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code))
        self.address: int = address
        given_back = weakref.finalize(self, _system.munmap, address, size)
        given_back.atexit = False  # threads may still read when a process ends, and the system gives it back then

    def array(self, dtype: npt.DTypeLike) -> npt.NDArray[Any]:
        """The file as one row of numbers; it holds the map."""
        if self._held is not None:
            return np.frombuffer(self._held, dtype)
        kind = np.dtype(dtype)
        return np.asarray(_Numbers(self, kind, self.size // kind.itemsize))

    def let_go(self) -> None:
        """Give pages back; they come again by themselves."""
        if _system is not None:
            _system.madvise(self.address, self.size, mmap.MADV_DONTNEED)
        elif hasattr(mmap, "MADV_DONTNEED"):
            self._held.madvise(mmap.MADV_DONTNEED)


class _Numbers:
    """What numpy asks to look at a map as an array."""

    def __init__(self, of: FileMap, kind: np.dtype[Any], count: int) -> None:
        self.of = of
        self.__array_interface__ = {"data": (of.address, not of.writable), "shape": (count,), "typestr": kind.str, "version": 3}


def _loaded() -> Any:
    """The system's own calls; None where it has none of this kind."""
    if os.name != "posix" or not hasattr(mmap, "MADV_DONTNEED"):
        return None
    try:
        system = ctypes.CDLL(None, use_errno=True)
        system.mmap.argtypes = (ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int, ctypes.c_int, ctypes.c_int, ctypes.c_int64)
        system.mmap.restype = ctypes.c_void_p
        system.munmap.argtypes = (ctypes.c_void_p, ctypes.c_size_t)
        system.madvise.argtypes = (ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int)
    except (OSError, AttributeError):
        return None
    return system


_FAILED = ctypes.c_void_p(-1).value
_system = _loaded()
