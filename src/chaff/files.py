"""Files are written whole or not at all."""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

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


def read_json(path: str | Path, plain: str, denied: str, format_name: str, version: int) -> dict[str, Any]:
    """The object in one of our JSON files; nothing in it is run.

    `plain` and `denied` go into the messages: "selection" and "is not a selection".

    Raises
    ------
    DataError
        When it is not there, is another kind of file, or was written by a later version.
    """
    file = Path(path)
    if not file.exists():
        raise DataError(f"no such {plain}: {file}")
    try:
        data = json.loads(file.read_text(encoding="utf-8"))
    except (json.JSONDecodeError, UnicodeDecodeError) as error:
        raise DataError(f"{file.name} {denied}: not JSON ({error})") from error
    except OSError as error:
        raise DataError(f"{file.name} cannot be read: {error.strerror}") from error
    if not isinstance(data, dict) or data.get("format") != format_name:
        raise DataError(f'{file.name} is JSON but {denied}: it lacks "format": "{format_name}"')
    if data.get("version") != version:
        raise DataError(f"{file.name} has version {data.get('version')} of the format, this Chaff reads {version}: update Chaff")
    return data


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
