"""The one BLAS call that NumPy has no name for: adding X'X to one triangle of a table.

`numpy.dot(X.T, X)` fills both triangles of a new table each time, which for small blocks costs as much as the product;
SciPy's wrapper of dsyrk keeps the interpreter lock, so that two threads take turns. This calls the same routine through its
address, which lets go of the lock and adds in place.
"""

from __future__ import annotations

import ctypes
from functools import cache
from typing import Any

import numpy as np

from chaff.arrays import Floats

SMALL = 2e8  # products up to which a table of its own costs less than loading SciPy's linear algebra


@cache
def _dsyrk() -> Any:
    from scipy.linalg import cython_blas

    capsule = cython_blas.__pyx_capi__["dsyrk"]
    name_of = ctypes.pythonapi.PyCapsule_GetName
    name_of.restype, name_of.argtypes = ctypes.c_char_p, [ctypes.py_object]
    pointer_of = ctypes.pythonapi.PyCapsule_GetPointer
    pointer_of.restype, pointer_of.argtypes = ctypes.c_void_p, [ctypes.py_object, ctypes.c_char_p]
    address = pointer_of(capsule, name_of(capsule))
    return ctypes.CFUNCTYPE(None, *[ctypes.c_void_p] * 10)(address)


def add_gram(Z: Floats, start: int, stop: int, total: Floats) -> None:
    """total += Z Z' over the columns start..stop - 1 of Z, in the upper triangle.

    Parameters
    ----------
    Z : float64 (q, >= stop), C-contiguous: a column of the data in each line.
    total : float64 (q, q), C-contiguous. Upper triangle modified in place, the rest left as it is.

    Raises
    ------
    ValueError
        When the arrays are not as said: the routine takes addresses and asks nothing.
    """
    q, stride = Z.shape
    fine = Z.flags.c_contiguous and total.flags.c_contiguous and Z.dtype == total.dtype == float
    if not fine or total.shape != (q, q) or not 0 <= start <= stop <= stride:
        raise ValueError("add_gram needs contiguous float64 arrays of matching shapes")
    if start == stop or not q:
        return
    if q * q * (stop - start) < SMALL:
        block = Z[:, start:stop]
        total += np.triu(block @ block.T)
        return
    n, k, lda, one = ctypes.c_int(q), ctypes.c_int(stop - start), ctypes.c_int(stride), ctypes.c_double(1.0)
    ref = ctypes.byref
    # Row-major (q, rows) is column-major (rows, q); the column-major lower triangle of the result is our upper one.
    _dsyrk()(
        ref(ctypes.c_char(b"L")),
        ref(ctypes.c_char(b"T")),
        ref(n),
        ref(k),
        ref(one),
        Z.ctypes.data + start * Z.itemsize,
        ref(lda),
        ref(one),
        total.ctypes.data,
        ref(n),
    )


def mirror(total: Floats) -> Floats:
    """Copy the upper triangle into the lower one, in place, by blocks that fit the cache."""
    q, step = total.shape[0], 128
    for i in range(0, q, step):
        for j in range(i + step, q, step):
            total[j : j + step, i : i + step] = total[i : i + step, j : j + step].T
        corner = total[i : i + step, i : i + step]
        corner[:] = np.triu(corner) + np.triu(corner, 1).T
    return total
