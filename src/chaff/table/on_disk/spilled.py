"""Decoded columns on disk: written once, mapped from then on, so that they take memory only while they are looked at.

A mapped column is an array like any other, and nothing above knows. Pages that were looked at stay until the machine needs them or until
`_Pages` lets go of them, which keeps what the process holds within its limit; a page that is looked at again comes back by itself.
"""

from __future__ import annotations

import os
import threading
import time
import weakref
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import DataError
from chaff.table.kinds import Column
from chaff.table.on_disk.file_map import FileMap
from chaff.table.on_disk.scratch import Scratch, scratch_root

CHECK_INTERVAL = 0.02  # seconds between two looks at the pages that are held
SOON = 0.003  # between two by those who walk over columns: 30 MB at the most are read in it
LEAST_PAGES = 32e6  # bytes of pages that may be held, whatever the limit


@dataclass(frozen=True)
class SpilledBlock:
    """Short columns that lie in one file."""

    described: dict[str, tuple[int, Any]]
    """Line of each, and what is said of it."""
    values: Floats

    def column(self, name: str) -> Column | None:
        if name not in self.described:
            return None
        k, about = self.described[name]
        return Column(name, about["kind"], self.values[k], tuple(about["levels"]), about["whole"])


@dataclass(frozen=True)
class Spill:
    """Decoded columns of one state of one source."""

    scratch: Scratch
    pages: float
    """Bytes of mapped pages that may be held at a time."""

    def here(self) -> Spill:
        """The same on this machine: where scratch lies elsewhere, columns are decoded again."""
        if self.scratch.folder.is_dir():
            return self
        return Spill(Scratch.of(scratch_root(), self.scratch.folder.name), self.pages)

    def column(
        self, key: str, make: Callable[[], Column], numbers: Callable[[], Iterator[Floats]] | None, of: Callable[..., Column]
    ) -> Column:
        """The column of this key: mapped where it lies in scratch already, else made and written.

        Parameters
        ----------
        key : str
            Tells apart whatever decides how the column is decoded.
        make : callable
            The column in memory.
        numbers : callable or None
            Its values block by block, for a column that need not be in memory to be decoded; ``of(values)`` is the column then.
        """
        place = self.scratch.place(key, ".f8")
        about = self.scratch.described(place)
        if about is None:
            about = self._write(place, make, numbers, of)
        values = mapped(place, about["rows"], self.pages)
        return Column(about["name"], about["kind"], values, tuple(about["levels"]), about["whole"])

    def block(self, key: str, names: Sequence[str], make: Callable[[], Floats], of: Callable[[str, Floats], Column]) -> SpilledBlock:
        """Several short columns in one file: mapped where it lies in scratch already, else made and written.

        Parameters
        ----------
        make : callable
            Their values, float64 (names, rows).
        of : callable
            ``of(name, values)`` is the column. One for which that fails takes no part: whoever asks for it hears why.
        """
        place = self.scratch.place(key, ".f8")
        about = self.scratch.described(place)
        if about is None:
            values = make()
            columns: list[dict[str, Any] | None] = []
            for k, name in enumerate(names):
                try:
                    column = of(name, values[k])
                except DataError:
                    columns.append(None)
                    continue
                values[k] = column.values
                columns.append(_about(column))
            self._replace(place, values.reshape(-1))
            about = {"rows": int(values.shape[1]), "columns": columns}
            self.scratch.describe(place, about)
        values = mapped(place, len(names) * about["rows"], self.pages).reshape(len(names), -1)
        return SpilledBlock({c["name"]: (k, c) for k, c in enumerate(about["columns"]) if c is not None}, values)

    def _write(self, place: Path, make: Callable[[], Column], numbers: Any, of: Callable[..., Column]) -> dict[str, Any]:
        if numbers is not None:
            with self.scratch.writing(place) as part:
                rows = _write_blocks(part, numbers())
            values = mapped(place, rows, self.pages)
            column = of(values)
            if column.values is not values:
                self._replace(place, column.values)
        else:
            column = make()
            self._replace(place, column.values)
        about = _about(column)
        self.scratch.describe(place, about)
        return about

    def _replace(self, place: Path, values: Floats) -> None:
        with self.scratch.writing(place) as part:
            _write_blocks(part, [values])


def _about(column: Column) -> dict[str, Any]:
    """What is written of a column beside its values."""
    return {
        "name": column.name, "kind": column.kind, "levels": list(column.levels), "whole": column.whole, "rows": int(column.values.size),
    }  # fmt: skip


def _write_blocks(part: Path, blocks: Iterable[Floats]) -> int:
    rows = 0
    with open(part, "wb", buffering=0) as file:
        for block in blocks:
            left = memoryview(np.ascontiguousarray(block, "<f8").view(np.uint8).data)
            rows += block.size
            while left.nbytes:
                left = left[file.write(left) or 0 :]
    return rows


def mapped(place: Path, rows: int, pages: float) -> Floats:
    """float64 (rows,), read-only, from a file that it is the whole of.

    Raises
    ------
    DataError
        When the file is gone, or holds fewer.
    """
    if rows == 0:
        return np.empty(0)
    try:
        with open(place, "rb") as file:
            if os.fstat(file.fileno()).st_size != 8 * rows:
                raise DataError(f"scratch in {place.parent} was changed while it was in use ({place.name} is cut off): run again")
            held = FileMap(file.fileno(), 8 * rows)
    except OSError as error:
        raise DataError(f"scratch in {place.parent} cannot be read ({error.strerror or error}): run again") from error
    watch(held, pages)
    return held.array("<f8")


class _Pages:
    """Lets go of mapped pages when more of them are held than may be."""

    def __init__(self) -> None:
        self.maps: weakref.WeakSet[FileMap] = weakref.WeakSet()
        self.most = float("inf")
        self.before = 0.0
        """Pages of files, such as libraries, that were held when no column's were."""
        self.due = 0.0
        self.lock = threading.Lock()
        self.thread: threading.Thread | None = None
        self.process = os.getpid()

    def watch(self, held: FileMap, most: float) -> None:
        with self.lock:
            if self.process != os.getpid():  # a forked child has the maps, and no thread
                self.thread, self.process = None, os.getpid()
            self.maps.add(held)
            self.most = max(LEAST_PAGES, most)
            if self.thread is None and _file_pages() is not None:
                self.before = _file_pages() or 0.0
                self.thread = threading.Thread(target=self._check_pages, name="chaff-pages", daemon=True)
                self.thread.start()

    def _check_pages(self) -> None:
        while True:
            time.sleep(CHECK_INTERVAL)
            self.settle()

    def settle_soon(self) -> None:
        """The same, unless it was looked at a moment ago."""
        now = time.monotonic()
        if now >= self.due:
            self.due = now + SOON
            self.settle()

    def settle(self) -> None:
        """Let go of all pages where too many are held."""
        if self.thread is None:
            return
        held = _file_pages()
        if held is None or held - self.before <= self.most:
            return
        with self.lock:
            maps = list(self.maps)
        for one in maps:
            one.let_go()
        self.before = _file_pages() or 0.0


def _file_pages() -> float | None:
    """Bytes of pages of files that this process holds; None where the system does not tell."""
    try:
        with open("/proc/self/statm") as file:
            return float(file.read().split()[2]) * os.sysconf("SC_PAGE_SIZE")
    except (OSError, ValueError, IndexError):
        return None


_pages = _Pages()


def watch(held: FileMap, pages: float) -> None:
    """Let go of the pages of this map, too, when more than so many bytes are held."""
    _pages.watch(held, pages)


def settle() -> None:
    """Called by whoever walks over many columns at once, faster than anybody looks by the clock."""
    _pages.settle_soon()
