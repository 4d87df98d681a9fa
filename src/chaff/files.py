"""Files are written whole or not at all."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from chaff.errors import DataError


@contextmanager
def whole_file(path: str | Path) -> Iterator[Path]:
    """A path to write to that takes the wanted name only when everything went well; nothing is left behind otherwise.

    Raises
    ------
    DataError
        When the place cannot be written: no such folder, no permission, no space left.
    """
    wanted = Path(path)
    part: Path | None = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{wanted.name}.", suffix=wanted.suffix, dir=wanted.parent)
        os.close(handle)
        part = Path(name)
        yield part
        os.chmod(part, 0o666 & ~_mask())
        os.replace(part, wanted)
    except OSError as error:
        raise DataError(f"{wanted.name} not written: {_why(error)}. Nothing was changed.") from error
    finally:
        if part is not None:
            part.unlink(missing_ok=True)


def write_text(path: str | Path, text: str) -> None:
    with whole_file(path) as part:
        part.write_text(text, encoding="utf-8")


def write_with(path: str | Path, write: Callable[[Path], object]) -> None:
    with whole_file(path) as part:
        write(part)


def make_folder(path: str | Path) -> Path:
    """The folder, made if it is not there; an error in words when it cannot be written to."""
    folder = Path(path)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            pass
    except OSError as error:
        raise DataError(f"output folder {folder} cannot be written: {_why(error)}. Choose another with --out") from error
    return folder


def _why(error: OSError) -> str:
    return (error.strerror or str(error)).lower()


def _mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
