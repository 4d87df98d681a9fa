"""Room for rows × columns: in memory, or beside a table on disk in a file of its scratch that has no name and goes with its last reader."""

from __future__ import annotations

import os
import tempfile
from math import prod
from typing import Any

import numpy as np
import numpy.typing as npt

from chaff.table.on_disk.file_map import FileMap
from chaff.table.on_disk.scratch import no_place
from chaff.table.on_disk.spilled import Spill, watch

SHARE = 0.1  # of the pages that may be held: what is smaller stays in memory
BLOCK = 16_384  # rows at a time, where a whole would be copied


def room(spill: Spill | None, shape: tuple[int, ...], dtype: npt.DTypeLike = float) -> npt.NDArray[Any]:
    """An array of zeros that may be written to, on disk where the table is and it is large.

    Raises
    ------
    DataError
        When the disk is full.
    """
    size = prod(shape) * np.dtype(dtype).itemsize
    if spill is None or size <= SHARE * spill.pages:
        return np.zeros(shape, dtype)
    folder = spill.here().scratch.folder
    try:
        with tempfile.TemporaryFile(dir=folder) as file:
            if hasattr(os, "posix_fallocate"):
                os.posix_fallocate(file.fileno(), 0, size)  # a full disk is then an error here, and not a signal later
            else:
                file.truncate(size)
            held = FileMap(file.fileno(), size, writable=True)
    except OSError as error:
        raise no_place(folder, error) from error
    watch(held, spill.pages)
    out: npt.NDArray[Any] = held.array(dtype).reshape(shape)
    return out


def turned(spill: Spill | None, array: npt.NDArray[Any]) -> npt.NDArray[Any]:
    """The transpose, contiguous."""
    out = room(spill, array.shape[::-1], array.dtype)
    for start in range(0, array.shape[1], BLOCK):
        out[start : start + BLOCK] = array[:, start : start + BLOCK].T
    return out
