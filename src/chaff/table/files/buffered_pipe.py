"""What comes through a pipe, put into a file: a table is looked at more than once."""

from __future__ import annotations

import os
import select
import tempfile
import time
from pathlib import Path
from typing import Any

from chaff.errors import DataError

PATIENCE = 20.0  # seconds that a pipe may stay silent at first
_FROM_PIPES: dict[str, Any] = {}


def plain_file(path: Path) -> Path:
    """The file itself, or what came through a pipe, put into a file: a table is looked at more than once.

    Raises
    ------
    DataError
        When nobody writes to the pipe.
    """
    if path.is_file():
        return path
    held = _FROM_PIPES.get(str(path))
    if held is None:
        held = tempfile.NamedTemporaryFile(suffix="".join(path.suffixes) or ".csv")  # noqa: SIM115  lives as long as the process
        _pour(path, held)
        _FROM_PIPES[str(path)] = held
    return Path(held.name)


def _pour(path: Path, into: Any) -> None:
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
    try:
        waiting, came = time.monotonic(), False
        while True:
            select.select([handle], [], [], 0.2)
            try:
                subset = os.read(handle, 1 << 20)
            except BlockingIOError:
                continue
            if subset:
                into.write(subset)
                came = True
            elif came or time.monotonic() - waiting > PATIENCE:
                break  # the other end was closed, or nobody ever came
            else:
                time.sleep(0.05)
    finally:
        os.close(handle)
    into.flush()
    if not came:
        raise DataError(f"nothing was written to {path} for {PATIENCE:.0f} seconds: it is a pipe, not a file")
