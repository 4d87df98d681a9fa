"""Files are written whole or not at all, and never over what was read, what is no plain file, or what a link points at."""

from __future__ import annotations

import filecmp
import json
import os
import shutil
import signal
import stat
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import Any

from chaff.errors import DataError, UsageError

PART = ".part-of-chaff-"
STALE = 3600.0  # seconds after which what a killed run left behind is removed by the next
_READ: set[str] = set()
_KEEP_EXISTING: ContextVar[bool] = ContextVar("keep_existing", default=False)


def reads(path: str | Path) -> None:
    """Note that this file was read: nothing that this process writes replaces it."""
    _READ.add(os.path.realpath(path))


@contextmanager
def keep_existing(keep: bool = True) -> Iterator[None]:
    """Within it, a file that is there already is not replaced."""
    token = _KEEP_EXISTING.set(keep)
    try:
        yield
    finally:
        _KEEP_EXISTING.reset(token)


def check_place(path: str | Path, own: bool = False, made: Path | None = None) -> None:
    """Refuse to write where it must not be.

    own : whether replacing a file that was read is what was asked for (a plan that pins are saved into).
    made : what is to take the place: a file that holds the very same is replaced by nothing else, so a run can be made again.

    Raises
    ------
    DataError
    """
    wanted = Path(path)
    try:
        result = os.lstat(wanted)
    except FileNotFoundError:
        return
    except (OSError, ValueError) as error:
        raise DataError(f"{_shown(wanted)} cannot be written: {_why(error)}") from error
    if stat.S_ISLNK(result.st_mode):
        raise DataError(f"{_shown(wanted)} is a link: name the file itself")
    if stat.S_ISDIR(result.st_mode):
        raise DataError(f"{_shown(wanted)} is a folder, not a file")
    if not stat.S_ISREG(result.st_mode):
        raise DataError(f"{_shown(wanted)} is not a regular file (a device or a pipe)")
    if os.path.realpath(wanted) in _READ and not own:
        raise DataError(f"{_shown(wanted)} is an input of this run and will not be overwritten: choose another name")
    if _KEEP_EXISTING.get() and not own and not (made is not None and filecmp.cmp(made, wanted, shallow=False)):
        raise DataError(f"{_shown(wanted)} already exists with different contents: choose another name, or pass --force to replace it")


@contextmanager
def whole_file(path: str | Path, own: bool = False) -> Iterator[Path]:
    """A path to write to that takes the wanted name only when everything went well; nothing is left behind otherwise.

    Raises
    ------
    DataError
        When the place must not or cannot be written: it was read, is no plain file, no such folder, no permission, no space left.
    """
    wanted = Path(path)
    with keep_existing(False):
        check_place(wanted, own)
    part: Path | None = None
    try:
        _sweep(wanted.parent)
        handle, name = tempfile.mkstemp(prefix=f"{PART}{os.getpid()}-", suffix=wanted.suffix, dir=wanted.parent)
        os.close(handle)
        part = Path(name)
        yield part
        check_place(wanted, own, part)
        os.chmod(part, _mode(wanted))
        os.replace(part, wanted)
    except (OSError, ValueError) as error:
        if not isinstance(error, OSError) and "null byte" not in str(error):
            raise
        raise DataError(f"{_shown(wanted)} not written: {_why(error)}. Nothing was changed.") from error
    finally:
        if part is not None:
            part.unlink(missing_ok=True)


def _mode(wanted: Path) -> int:
    """The permissions that a file has, or those that new files get."""
    try:
        return stat.S_IMODE(os.stat(wanted).st_mode)
    except OSError:
        return 0o666 & ~_mask()


@contextmanager
def together(folder: str | Path) -> Iterator[Path]:
    """A fresh folder whose files take their places in `folder` all at the end, or none of them.

    A signal that arrives while they do so waits until the last one stands.

    Raises
    ------
    DataError
        As `whole_file`, for each of them.
    """
    place = make_folder(folder)
    _sweep(place)
    fresh = Path(tempfile.mkdtemp(prefix=f"{PART}{os.getpid()}-", dir=place))
    try:
        yield fresh
        made = sorted(p for p in fresh.iterdir())
        for file in made:
            check_place(place / file.name, made=file)
        for file in made:
            os.chmod(file, _mode(place / file.name))
        with signals_held():
            _move_all(made, place)
    except OSError as error:
        raise DataError(f"results not written to {folder}: {_why(error)}. Nothing was changed.") from error
    finally:
        shutil.rmtree(fresh, ignore_errors=True)


def _move_all(made: list[Path], place: Path) -> None:
    """Each file to its place; where one cannot be moved, those before it are put back as they were.

    Raises
    ------
    OSError
        Nothing was changed.
    DataError
        Something was: it says which files are new.
    """
    before = Path(tempfile.mkdtemp(prefix=f"{PART}{os.getpid()}-", dir=place))
    kept, moved = [], []
    try:
        for file in made:
            if (place / file.name).exists():
                os.replace(place / file.name, before / file.name)
                kept.append(file.name)
            os.replace(file, place / file.name)
            moved.append(file.name)
    except OSError as error:
        left = _put_back(before, place, kept, moved)
        if left:
            raise DataError(f"results only partly written to {place}: {_why(error)}. New there: {', '.join(left)}") from error
        raise
    finally:
        shutil.rmtree(before, ignore_errors=True)


def _put_back(before: Path, place: Path, kept: list[str], moved: list[str]) -> list[str]:
    """Undo moves; the names of the files that could not be undone."""
    left = []
    for name in dict.fromkeys([*kept, *moved]):
        try:
            if name in kept:
                os.replace(before / name, place / name)
            else:
                (place / name).unlink()
        except OSError:
            left.append(name)
    return left


@contextmanager
def signals_held() -> Iterator[None]:
    """Within it, an interrupt or a request to end waits; it takes effect at the end. Only the main thread can hold signals."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    arrived: list[int] = []
    before = {number: signal.signal(number, lambda n, _: arrived.append(n)) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield
    finally:
        for held, handler in before.items():
            signal.signal(held, handler)
        for number in dict.fromkeys(arrived):
            signal.raise_signal(number)


def _sweep(folder: Path) -> None:
    """Remove what runs that were killed left here: their process is gone, or it was long ago. Links are left alone."""
    for left in folder.glob(f"{PART}*"):
        try:
            process = int(left.name[len(PART) :].split("-")[0])
            state = os.lstat(left)
            running = alive(process) and time.time() - state.st_mtime < STALE
        except (ValueError, OSError):
            continue
        if process == os.getpid() or running:
            continue
        if stat.S_ISDIR(state.st_mode):
            shutil.rmtree(left, ignore_errors=True)
        elif stat.S_ISREG(state.st_mode):
            left.unlink(missing_ok=True)


def alive(process: int) -> bool:
    """Whether a process of this number runs."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def read_json(path: str | Path, plain: str, denied: str, format_name: str, version: int) -> dict[str, Any]:
    """The object in one of our JSON files; nothing in it is run.

    `plain` and `denied` go into the messages: "selection" and "is not a selection".

    Raises
    ------
    DataError
        When it is not there, is another kind of file, or was written by a later version.
    """
    file = Path(path)
    try:
        if not file.exists():
            raise DataError(f"no such {plain}: {file}")
        if not file.is_file():
            raise DataError(f"{file.name} {denied}: it is not a regular file")
        data = json.loads(file.read_text(encoding="utf-8"))
    except (json.JSONDecodeError, UnicodeDecodeError) as error:
        raise DataError(f"{file.name} {denied}: not JSON ({error})") from error
    except (RecursionError, ValueError) as error:
        if isinstance(error, DataError):
            raise
        raise DataError(f"{file.name} {denied}: {_why(error)}") from error
    except OSError as error:
        raise DataError(f"{file.name} cannot be read: {_why(error)}") from error
    if not isinstance(data, dict) or data.get("format") != format_name:
        raise DataError(f'{file.name} is JSON but {denied}: it lacks "format": "{format_name}"')
    result = data.get("version")
    if isinstance(result, bool) or not isinstance(result, int) or not 1 <= result <= version:
        raise DataError(f"{file.name} has version {result} of the format, this Chaff reads {version}: update Chaff")
    return data


def write_text(path: str | Path, text: str, own: bool = False) -> None:
    """Text as UTF-8; a lone half of a surrogate pair, which no encoding knows, is written as a question mark."""
    with whole_file(path, own) as part:
        part.write_text(text, encoding="utf-8", errors="replace")


def write_with(path: str | Path, write: Callable[[Path], object]) -> None:
    with whole_file(path) as part:
        write(part)


SAVED = (".json", ".csv", ".parquet")


def save_frame(path: str | Path, frame: Any, whole: Callable[[], Any], index: bool = True) -> None:
    """Write a result by the ending of the file: .json holds all of it (`whole()`, plain values), .csv and .parquet its frame.

    Raises
    ------
    UsageError
        For another ending.
    DataError
    """
    ending = Path(path).suffix.lower()
    if ending not in SAVED:
        raise UsageError(f"{Path(path).name}: results are saved as .json, .csv or .parquet")
    if ending == ".json":
        write_text(path, json.dumps(whole(), ensure_ascii=False, indent=1) + "\n")
    elif ending == ".csv":
        write_with(path, lambda part: harmless(frame).to_csv(part, index=index))
    else:
        write_with(path, lambda part: _one_kind(frame).to_parquet(part, index=index))


def _one_kind(frame: Any) -> Any:
    """A pandas frame whose columns Parquet can hold: names are words, and what is of several kinds is written as words."""
    import pandas as pd
    import pyarrow as pa

    out = frame.copy()
    out.columns = [" ".join(map(str, c)) if isinstance(c, tuple) else str(c) for c in out.columns]
    for k in range(out.shape[1]):
        if pd.api.types.is_object_dtype(out.dtypes.iloc[k]):
            try:
                pa.array(out.iloc[:, k], from_pandas=True)
            except (pa.ArrowInvalid, pa.ArrowTypeError):
                out.isetitem(k, out.iloc[:, k].map(lambda v: None if v is None or v != v else str(v)))
    return out


def harmless(frame: Any) -> Any:
    """A pandas frame whose words, read by a spreadsheet, are words: a cell that begins like a formula gets a quote in front."""
    import pandas as pd

    def safe(value: Any) -> Any:
        return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r") and not _is_number(value) else value

    out = frame.copy()
    for k in range(out.shape[1]):
        if not pd.api.types.is_numeric_dtype(out.dtypes.iloc[k]):
            out.isetitem(k, out.iloc[:, k].map(safe))
    if not pd.api.types.is_numeric_dtype(out.index.dtype):
        out.index = out.index.map(safe)
    return out


def _is_number(value: str) -> bool:
    try:
        float(value)
    except ValueError:
        return False
    return True


def make_folder(path: str | Path) -> Path:
    """The folder, made if it is not there; an error in words when it cannot be written to."""
    folder = Path(path)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            pass
    except (OSError, ValueError) as error:
        raise DataError(f"output folder {_shown(folder)} cannot be written: {_why(error)}. Choose another with --out") from error
    return folder


def _shown(path: Path) -> str:
    return path.name.encode("utf-8", "replace").decode()


def _why(error: BaseException) -> str:
    return str(getattr(error, "strerror", None) or error).lower()


def _mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
