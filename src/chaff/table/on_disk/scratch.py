"""Scratch: folders on disk for what does not fit into memory, found again by what they were made from.

Pages of files that the system keeps. A table and its scratch that are together more than the machine holds push each other out,
and scratch is read from the disk again; what was decoded is not looked at a second time, so its pages may go first.
"""

from __future__ import annotations

import errno
import hashlib
import json
import os
import re
import shutil
import stat
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from chaff.errors import DataError
from chaff.files import PART, alive
from chaff.memory import size_in_words

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


UNUSED = 14 * 86_400.0  # seconds after which a folder that nobody has used is removed
VERSION = 1  # of what lies in a scratch folder; another one is made again
FOLDER = re.compile(r"chaff-[0-9a-f]{24}")
MARK = "chaff-scratch.json"  # its time says when a folder was last used; a folder without it is not ours
SIGNATURE = "chaff scratch"
MOST_DESCRIPTIONS = 200_000  # held in memory at a time

_descriptions: dict[tuple[str, int, int], dict[str, Any] | None] = {}


def scratch_root(given: str | Path | None = None) -> Path:
    """Where scratch folders lie: as said, else ``$CHAFF_SCRATCH``, else the cache folder of the person."""
    if given is not None:
        return Path(given).expanduser()
    text = os.environ.get("CHAFF_SCRATCH")
    if text:
        return Path(text).expanduser()
    cache = os.environ.get("XDG_CACHE_HOME")
    return (Path(cache) if cache else Path.home() / ".cache") / "chaff"


@dataclass(frozen=True)
class Scratch:
    """One folder, for one state of one source."""

    folder: Path

    @classmethod
    def of(cls, root: Path, *marks: object) -> Scratch:
        """The folder for what these marks tell apart; folders unused for two weeks go.

        Raises
        ------
        DataError
            When no folder can be made there.
        """
        digest = hashlib.sha256("\x1f".join(map(str, (VERSION, *marks))).encode("utf-8", "surrogatepass")).hexdigest()[:24]
        folder = root / f"chaff-{digest}"
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)  # what lies there is the person's data
            if folder.is_symlink():
                raise DataError(f"scratch: {folder} is a link, which is not followed; name another folder with scratch=… (--scratch)")
            _sign(folder)
        except OSError as error:
            raise no_place(root, error) from error
        _sweep(root, folder)
        return cls(folder)

    def check_room(self, needed: float) -> None:
        """Refuse before any work what the disk has no room for, as far as that can be told.

        Raises
        ------
        DataError
        """
        try:
            there = sum(f.stat().st_size for f in self.folder.iterdir() if f.is_file())
            free = shutil.disk_usage(self.folder).free
        except OSError:
            return
        if needed - there > free:
            raise DataError(
                f"scratch takes up to {size_in_words(needed - there)}, and {size_in_words(free)} are left in {self.folder.parent}: "
                "name another folder with scratch=… (--scratch), or leave columns out (--ignore)"
            )

    def place(self, key: str, ending: str) -> Path:
        """A file of this folder, by what it holds."""
        return self.folder / (hashlib.sha256(key.encode("utf-8", "surrogatepass")).hexdigest()[:32] + ending)

    def describe(self, place: Path, about: dict[str, Any]) -> None:
        """Write beside a data file what it holds, its size and a checksum of both: the entry is there from then on.

        Raises
        ------
        DataError
        """
        about = {"version": VERSION, "bytes": place.stat().st_size if place.exists() else 0, "about": about}
        with self.writing(_description_of(place)) as part:
            part.write_text(json.dumps(about | {"sha256": _checksum(about)}), encoding="utf-8")

    def described(self, place: Path) -> Any:
        """What was written of a data file; None when it is not there, or file and description do not fit each other."""
        description = _description_of(place)
        try:
            state = description.stat()
            key = (str(description), state.st_mtime_ns, state.st_size)
            if key not in _descriptions:  # read once, for a table may have more columns than are mapped at a time
                if len(_descriptions) >= MOST_DESCRIPTIONS:
                    _descriptions.clear()
                _descriptions[key] = _read_description(description)
            about = _descriptions[key]
            if about is None or about["bytes"] != (place.stat().st_size if about["bytes"] else 0):
                return None
            return about["about"]
        except OSError:
            return None

    @contextmanager
    def writing(self, place: Path) -> Iterator[Path]:
        """A path to write to, which takes its place when all is written; nothing stays behind otherwise.

        Raises
        ------
        DataError
            When the disk is full, or cannot be written to.
        """
        part = place.with_name(f"{place.name}{PART}{os.getpid()}-{time.monotonic_ns()}")
        try:
            yield part
            os.replace(part, place)
        except OSError as error:
            raise no_place(self.folder, error) from error
        finally:
            part.unlink(missing_ok=True)


def no_place(folder: Path, error: OSError) -> DataError:
    """What is said of a folder that cannot be written to."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        try:
            left = f" ({size_in_words(shutil.disk_usage(folder).free)} left)"
        except OSError:
            left = ""
        return DataError(
            f"no space left for scratch in {folder}{left}: nothing half-written was left behind; "
            "name another folder with scratch=… (--scratch), or give more memory"
        )
    return DataError(f"scratch in {folder} cannot be written: {error.strerror or error}; name another folder with scratch=… (--scratch)")


def _description_of(place: Path) -> Path:
    return place.with_name(f"{place.name}.json")


def _checksum(about: dict[str, Any]) -> str:
    return hashlib.sha256(json.dumps(about, sort_keys=True).encode()).hexdigest()


def _read_description(file: Path) -> dict[str, Any] | None:
    """A description that is whole and of this version, else None."""
    try:
        about = json.loads(file.read_text(encoding="utf-8"))
        whole = about.pop("sha256") == _checksum(about) and about["version"] == VERSION
    except (OSError, ValueError, AttributeError, KeyError, TypeError, RecursionError):
        return None
    return about if whole else None


def _sign(folder: Path) -> None:
    """Put our mark into a folder, or renew its time."""
    mark = folder / MARK
    if _is_ours(folder):
        mark.touch()
        return
    flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | getattr(os, "O_NOFOLLOW", 0)
    with open(os.open(mark, flags, 0o600), "w", encoding="utf-8") as file:
        json.dump({"format": SIGNATURE, "version": VERSION}, file)


def _is_ours(folder: Path) -> bool:
    """Whether Chaff made this folder: a name of our form, and a mark with our signature in it. No link is followed."""
    if not FOLDER.fullmatch(folder.name):
        return False
    try:
        if not stat.S_ISDIR(os.lstat(folder).st_mode) or not stat.S_ISREG(os.lstat(folder / MARK).st_mode):
            return False
        mark = json.loads((folder / MARK).read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        return False
    return isinstance(mark, dict) and mark.get("format") == SIGNATURE and isinstance(mark.get("version"), int)


def _sweep(root: Path, current: Path) -> None:
    """Remove folders of ours that nobody has used for long, and what killed runs left behind in the current one."""
    now = time.time()
    try:
        for folder in root.iterdir():
            if folder != current and _is_ours(folder) and now - os.lstat(folder / MARK).st_mtime > UNUSED:
                shutil.rmtree(folder, ignore_errors=True)
        for part in current.glob(f"*{PART}*"):
            number = part.name.rpartition(PART)[2].partition("-")[0]
            if number.isdigit() and stat.S_ISREG(os.lstat(part).st_mode) and not alive(int(number)):
                part.unlink(missing_ok=True)
    except OSError:
        return
