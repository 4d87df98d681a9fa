"""What stays on disk: whether a source is larger than the memory it may take, and how it is read then."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from chaff.errors import DataError
from chaff.files import reads
from chaff.memory import bytes_of, machine_bytes, size_in_words
from chaff.table.files.addresses import answered, below, is_address, shown, system_of
from chaff.table.files.folders import ENDINGS, files_of, is_hidden, partitions_of
from chaff.table.files.reading import Reading, first_line
from chaff.table.on_disk.scratch import Scratch, scratch_root
from chaff.table.on_disk.spilled import Spill
from chaff.table.on_disk.stored import Piece, StoredTable, piece_of, stored_table
from chaff.table.on_disk.text_to_parquet import parquet_of
from chaff.table.source import Source, mapped_cache

MACHINE_SHARE = 0.6  # of the machine's memory, that is taken where nothing was said
COPIES = 3.0  # of a table's numbers, that work in memory takes: as read, decoded, and as a form
PAGES_SHARE = 0.15  # of the memory, for pages of columns on disk
PROGRAM = 350e6  # bytes of the program itself, libraries and compiled kernels
VECTORS = 8  # numbers a row that are held whatever is done: the target, row numbers, folds, and a column at work
LEAST_CELLS = 4e6  # of the sample that models work on, at the least
PARQUET = (".parquet", ".pq")


@dataclass(frozen=True)
class Limit:
    """How much memory the whole process may take, and where scratch goes."""

    memory: float
    root: Path
    forced: bool = False
    """Whether columns go to disk however small the table is."""

    @classmethod
    def of(cls, memory: str | float | None, scratch: str | Path | None, forced: bool = False) -> Limit:
        size = bytes_of(memory) if memory is not None else MACHINE_SHARE * machine_bytes()
        return cls(size, scratch_root(scratch), forced or (scratch is not None and memory is None))

    def holds(self, cells: float) -> bool:
        """Whether a table of so many cells may be worked on in memory."""
        return not self.forced and PROGRAM + COPIES * 8 * cells <= self.memory

    def check(self, rows: int, columns: int, label: str) -> None:
        """Refuse what cannot be done within the limit whatever is done, saying what would.

        Raises
        ------
        DataError
        """
        least = PROGRAM + 8.0 * VECTORS * rows + 8 * LEAST_CELLS
        if self.memory < least:
            room = max(0.0, (self.memory - PROGRAM - 8 * LEAST_CELLS) / (8 * VECTORS))
            fits = f"{size_in_words(self.memory)} holds {room:,.0f} rows" if room >= 1000 else "that is less than the program itself takes"
            raise DataError(
                f"memory={size_in_words(self.memory)} is too little for {label} ({rows:,} rows × {columns:,} columns): "
                f"{size_in_words(least)} are needed ({fits})"
            )

    def check_products(self, columns: int, tables: int, label: str) -> None:
        """Refuse products of every pair of columns that would take more memory than there may be, before they are made.

        Parameters
        ----------
        columns, tables : int
            So many tables of columns × columns numbers.

        Raises
        ------
        DataError
        """
        needed = 8.0 * tables * columns * columns
        if needed > self.memory:
            raise DataError(
                f"products of every pair of {columns:,} columns of {label} take {size_in_words(needed)}, of {size_in_words(self.memory)} "
                "that may be taken: let fewer columns through first (chaff.triage; chaff select --plan wide; --ignore)"
            )

    @property
    def pages(self) -> float:
        return PAGES_SHARE * self.memory

    def words(self, spill: Spill | None, rows: int, texts: int) -> str:
        """What is said of a table that stays on disk."""
        where = f" in {spill.scratch.folder}" if spill is not None else ""
        where += f"; {texts} text file{'s were' if texts > 1 else ' was'} turned into Parquet there, in {self.root}" if texts else ""
        if self.forced:
            return f"stays on disk: decoded columns go to scratch{where}"
        parts = (("the program", PROGRAM), ("target, folds and the like", 8.0 * VECTORS * rows), ("pages of columns", self.pages))
        held = ", ".join(f"{size_in_words(size)} for {what}" for what, size in parts)
        rest = max(0.0, self.memory - sum(size for _, size in parts[:2]))
        return (
            f"stays on disk, decoded columns in scratch{where}; of {size_in_words(self.memory)} of memory {held}, "
            f"{size_in_words(rest)} left for samples and models"
        )


def stored_source(source: Any, reading: Reading, limit: Limit) -> tuple[Any, str] | None:
    """(the table that stays in its files, or what came from far, label); None for what is read into memory as it is.

    Raises
    ------
    DataError
    """
    if isinstance(source, str) and is_address(source):
        return _remote(source, reading, limit)
    if isinstance(source, list | tuple) and source and all(isinstance(s, str | Path) for s in source):
        if any(is_address(s) for s in source):
            parts = [p for s in source for p in _remote_parts(str(s), reading, limit)[0]]
            return _held(stored_table(parts), f"{parts[0][0].name} and {len(parts) - 1} more", limit)
        paths, folder = [Path(s) for s in source], None
        label = f"{paths[0].name} and {len(paths) - 1} more" if len(paths) > 1 else paths[0].name
    elif isinstance(source, str | Path):
        path = Path(source)
        try:
            there, folder = path.exists(), path if path.is_dir() else None
        except (OSError, ValueError):
            return None
        if not there or not (folder or path.is_file()):
            return None  # what is not there, and pipes: the reader of plain files tells
        paths, label = (files_of(path) if folder else [path]), path.name or str(path)
    else:
        return None
    if not _should_stay(paths, limit):
        return None
    return _checked(stored_table([_part(p, folder, reading, limit) for p in paths]), label)


def files_behind(source: Source) -> list[str]:
    """Files on this machine that a table on disk is read from."""
    arrow = source.arrow
    return [p.path for p in arrow.pieces if not p.remote] if isinstance(arrow, StoredTable) else []


def is_parquet(source: str) -> bool:
    """Whether a path or an address names Parquet files, or a folder of nothing else."""
    path = Path(source)
    if path.suffix.lower() in PARQUET:
        return True
    if is_address(source):
        return Path(shown(source)).suffix.lower() in ("", *PARQUET)
    try:
        return path.is_dir() and all(p.suffix.lower() in PARQUET for p in files_of(path))
    except (OSError, DataError):
        return False


def stored_files(source: Any) -> tuple[StoredTable, str] | None:
    """(the table, label) where a source is Parquet files, whatever their size, in a folder, a list or an object store; None else."""
    if isinstance(source, str | Path) and not is_address(source):
        path = Path(source)
        try:
            paths = files_of(path) if path.is_dir() else []
        except OSError:
            paths = []
    else:
        paths = [Path(s) for s in source] if isinstance(source, list | tuple) and all(isinstance(s, str | Path) for s in source) else []
    remote = isinstance(source, str) and is_address(source)
    if not remote and not (paths and all(p.suffix.lower() in PARQUET for p in paths)):
        return None
    result = stored_source(source, Reading(), Limit.of(None, None, forced=True))
    return result if result is not None and isinstance(result[0], StoredTable) else None


def on_disk(source: Source, limit: Limit) -> Source:
    """The source with its decoded columns on disk."""
    arrow = source.arrow  # how cells are read tells columns apart, not folders: other roles find the same scratch
    spill = Spill(Scratch.of(limit.root, *arrow.marks), limit.pages)
    spill.scratch.check_room(8.0 * arrow.num_rows * arrow.num_columns)
    return replace(source, spill=spill, decoded=mapped_cache())


def _should_stay(paths: Sequence[Path], limit: Limit) -> bool:
    """Whether these files together are more than may be held in memory; a text file's cells are guessed by its bytes."""
    if limit.forced:
        return True
    cells = 0.0
    for path in paths:
        try:
            size = path.stat().st_size
        except OSError:
            return False  # the reader of plain files tells
        if path.suffix.lower() in PARQUET and size:
            try:
                file = piece_of(str(path))
            except DataError:
                return False
            cells += float(file[0].rows) * len(file[1].names)
        else:
            cells += size / 5.0  # four digits and a comma
    return not limit.holds(cells)


def _part(path: Path, folder: Path | None, reading: Reading, limit: Limit) -> tuple[Piece, Any]:
    given = partitions_of(path, folder) if folder is not None else {}
    if path.suffix.lower() in PARQUET:
        reads(path)
        return piece_of(str(path.resolve()), path.name, given)
    return piece_of(str(parquet_of(path, reading, limit.root, limit.memory)), path.name, given)


def _remote(address: str, reading: Reading, limit: Limit) -> tuple[Any, str]:
    parts, label = _remote_parts(address, reading, limit)
    return _held(stored_table(parts), label, limit)


def _held(table: StoredTable, label: str, limit: Limit) -> tuple[Any, str]:
    """What comes from far and fits is held, so that it comes once."""
    _checked(table, label)
    return (table.whole() if limit.holds(float(table.num_rows) * table.num_columns) else table), label


def _remote_parts(address: str, reading: Reading, limit: Limit) -> tuple[list[tuple[Piece, Any]], str]:
    """The pieces of an address in an object store: a file, or everything of a table's kind below it."""
    from pyarrow import fs

    system, path = system_of(address)
    text = shown(address)
    label = path.rstrip("/").rpartition("/")[2] or text
    try:
        info = answered(lambda: system.get_file_info(path), address)
        result = [info]
        if info.type == fs.FileType.Directory:
            below_it = fs.FileSelector(path, recursive=True)
            result = sorted(answered(lambda: system.get_file_info(below_it), address), key=lambda i: i.path)
    except OSError as error:
        raise DataError(f"{text} cannot be reached: {first_line(error)}") from error
    if info.type == fs.FileType.NotFound:
        raise DataError(f"no such file: {text}")
    base = Path(path)
    files = [i.path for i in result if i.type == fs.FileType.File and Path(i.path).suffix.lower() in ENDINGS]
    files = [f for f in files if len(result) == 1 or not is_hidden(Path(f), base)]
    if not files:
        raise DataError(f"{text} is a folder without a table in it; tables end in {', '.join(ENDINGS[:3])} and the like")
    parts = []
    for file in files:
        given = partitions_of(Path(file), base) if len(result) > 1 else {}
        name = file.rpartition("/")[2]
        if Path(file).suffix.lower() in PARQUET:
            parts.append(piece_of(below(address, path, file), name, given))
        else:
            local = _fetched(system, address, file, limit)
            parts.append(piece_of(str(parquet_of(local, reading, limit.root, limit.memory)), name, given))
    return parts, label


def _fetched(system: Any, address: str, path: str, limit: Limit) -> Path:
    """A text file of an object store, brought to scratch once."""
    info = system.get_file_info(path)
    scratch = Scratch.of(limit.root, "fetched", shown(address), path, info.size, info.mtime_ns)
    place = scratch.folder / path.rpartition("/")[2]
    if scratch.described(place) is None:
        with scratch.writing(place) as part, system.open_input_stream(path, compression=None) as stream, open(part, "wb") as out:
            while subset := stream.read(1 << 22):
                out.write(subset)
        scratch.describe(place, {"path": path})
    return place


def _checked(table: StoredTable, label: str) -> tuple[StoredTable, str]:
    if table.num_columns == 0:
        raise DataError(f"{label} has no columns")
    if table.num_rows == 0:
        raise DataError(f"{label} has a header but no rows")
    return table, label
