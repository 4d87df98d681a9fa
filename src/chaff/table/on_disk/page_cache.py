"""Pages of files that the system keeps. A table and its scratch that are together more than the machine holds push each other out, and
scratch is read from the disk again; what was decoded is not looked at a second time, so its pages may go first."""

from __future__ import annotations

import os
from typing import Any

CROWDED = 0.6  # of the machine's memory, from which a table and its scratch get into each other's way


def column_bytes(file: Any, group: int, name: str) -> tuple[int, int]:
    """(first byte, how many) of a column in a row group of an open Parquet file; (0, 0) where columns lie in one another."""
    k, about = file.schema_arrow.get_field_index(name), file.metadata
    if k < 0 or about.num_columns != len(file.schema_arrow.names):
        return 0, 0
    chunk = about.row_group(group).column(k)
    first = chunk.data_page_offset if not chunk.has_dictionary_page else min(chunk.dictionary_page_offset, chunk.data_page_offset)
    return int(first), int(chunk.total_compressed_size)


def make_room(path: str, first: int, count: int) -> None:
    """Tell the system that some bytes of a file on this machine will not be read again; only a hint, which may be passed over."""
    if count <= 0 or not hasattr(os, "posix_fadvise"):
        return
    try:
        number = os.open(path, os.O_RDONLY)
    except OSError:
        return
    try:
        os.posix_fadvise(number, first, count, os.POSIX_FADV_DONTNEED)
    except OSError:
        pass
    finally:
        os.close(number)
