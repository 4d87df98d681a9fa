"""Scratch: folders on disk for what does not fit into memory, found again by what they were made from."""

from __future__ import annotations

import errno
import hashlib
import os
import shutil
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from chaff.errors import DataError
from chaff.files import PART, alive
from chaff.memory import size_in_words

UNUSED = 14 * 86_400.0  # seconds after which a folder that nobody has used is removed
MARK = "used"  # its time says when a folder was last used; what has none is not ours


def scratch_root(said: str | Path | None = None) -> Path:
    """Where scratch folders lie: as said, else ``$CHAFF_SCRATCH``, else the cache folder of the person."""
    if said is not None:
        return Path(said).expanduser()
    told = os.environ.get("CHAFF_SCRATCH")
    if told:
        return Path(told).expanduser()
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
        digest = hashlib.sha256("\x1f".join(map(str, marks)).encode()).hexdigest()[:24]
        folder = root / digest
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)  # what lies there is the person's data
            (folder / MARK).touch()
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


def _sweep(root: Path, mine: Path) -> None:
    """Remove folders that nobody has used for long, and what killed runs left behind in this one."""
    now = time.time()
    try:
        for folder in root.iterdir():
            mark = folder / MARK
            if folder != mine and mark.is_file() and now - mark.stat().st_mtime > UNUSED:
                shutil.rmtree(folder, ignore_errors=True)
        for part in mine.glob(f"*{PART}*"):
            number = part.name.rpartition(PART)[2].partition("-")[0]
            if number.isdigit() and not alive(int(number)):
                part.unlink(missing_ok=True)
    except OSError:
        return
