"""StoredTable: a table that stays in its Parquet files, read column by column; it answers like an Arrow table where it is asked."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import DataError
from chaff.memory import machine_bytes
from chaff.table.files.addresses import is_address, shown, system_of
from chaff.table.files.reading import first_line, refuse_twins
from chaff.table.kinds import floats_of
from chaff.table.on_disk.scratch import CROWDED, column_bytes, make_room

_footers: dict[tuple[Any, ...], Any] = {}
_lock = threading.Lock()
KEPT_OPEN = 4  # files a thread
CHECK_INTERVAL = 1.0  # seconds between two questions whether a file far away has changed
_kept = threading.local()


@dataclass(frozen=True)
class Piece:
    """One Parquet file, as it was when the table was opened."""

    path: str = field(repr=False)  # an address may hold keys
    rows: int
    size: int
    changed: int
    """Time of the last change, nanoseconds."""
    named: str = ""
    """What the user calls it, where the file itself was made from theirs."""
    given: tuple[tuple[str, str | None], ...] = ()
    """What its folders say of every row: (key, value)."""
    remote: bool = False

    @property
    def name(self) -> str:
        return self.named or shown(self.path).rpartition("/")[2]

    def state(self) -> tuple[int, int]:
        """(size, time of the last change) as it is now.

        Raises
        ------
        DataError
            When it is gone.
        """
        from pyarrow import fs

        system, path = system_of(self.path)
        try:
            info = system.get_file_info(path)
        except OSError as error:
            raise DataError(f"{self.name} cannot be reached any more: {first_line(error)}") from error
        if info.type != fs.FileType.File:
            raise DataError(f"{self.name} is gone since the table was opened")
        return int(info.size), int(info.mtime_ns or 0)

    def open(self) -> Any:
        """The Parquet file; its footer is read once a process."""
        import pyarrow as pa
        import pyarrow.parquet as pq

        if self.state() != (self.size, self.changed):
            raise DataError(f"{self.name} has changed since the table was opened: open it again")
        system, path = system_of(self.path)
        key = (self.path, self.size, self.changed)
        try:
            file = pq.ParquetFile(system.open_input_file(path), metadata=_footers.get(key), pre_buffer=self.remote)
        except (pa.ArrowInvalid, OSError) as error:
            raise DataError(f"{self.name} cannot be read as parquet: {first_line(error)}") from error
        with _lock:
            _footers.setdefault(key, file.metadata)
        return file

    def kept_open(self) -> Any:
        """The same, opened once a thread: to open a file of many thousands of columns takes longer than to read one of them."""
        files: OrderedDict[Any, Any] = _kept.__dict__.setdefault("files", OrderedDict())
        key = (self.path, self.size, self.changed)
        requested: dict[Any, float] = _kept.__dict__.setdefault("asked", {})
        now = time.monotonic()
        if not self.remote or now - requested.get(key, -CHECK_INTERVAL) >= CHECK_INTERVAL:
            if self.state() != (self.size, self.changed):
                return self.open()  # tells what is wrong
            requested[key] = now
        if key not in files:
            files[key] = self.open()
            while len(files) > KEPT_OPEN:
                files.popitem(last=False)  # closed when nobody reads from it any more
        files.move_to_end(key)
        return files[key]


def piece_of(path: str, named: str = "", given: Mapping[str, str | None] | None = None) -> tuple[Piece, Any]:
    """(piece, its schema with what the folders say) of a Parquet file.

    Raises
    ------
    DataError
    """
    empty = Piece(path, 0, 0, 0, named, tuple((given or {}).items()), is_address(path))
    size, changed = empty.state()
    file = replace(empty, size=size, changed=changed).open()
    schema = file.schema_arrow
    refuse_twins(list(schema.names), empty.name)
    piece = replace(empty, size=size, changed=changed, rows=int(file.metadata.num_rows))
    return piece, _with_given(schema, piece)


@dataclass(frozen=True, eq=False)
class StoredTable:
    """Pieces one after the other as one table; what Arrow's tables are asked for, without holding them."""

    pieces: tuple[Piece, ...]
    schema: Any
    more: Mapping[str, Any] = field(default_factory=dict)
    """Columns in memory beside those of the files."""

    @cached_property
    def column_names(self) -> list[str]:
        return list(self.schema.names)

    @cached_property
    def known(self) -> frozenset[str]:
        return frozenset(self.column_names)

    @property
    def num_columns(self) -> int:
        return len(self.column_names)

    @cached_property
    def num_rows(self) -> int:
        return sum(p.rows for p in self.pieces)

    @property
    def texts(self) -> int:
        """How many of its files were turned into Parquet first."""
        return sum(p.named != "" and p.named != p.path.rpartition("/")[2] for p in self.pieces)

    @property
    def marks(self) -> tuple[object, ...]:
        """What tells one state of the files from another."""
        return tuple((p.path, p.size, p.changed, p.rows, p.given) for p in self.pieces)

    def column(self, name: str) -> Any:
        """A whole column, as a chunked array.

        Raises
        ------
        DataError
            Naming the file, when one has changed, is gone or is damaged.
        """
        import pyarrow as pa

        if name in self.more:
            return self.more[name]
        kind = self.schema.field(name).type
        return pa.chunked_array([c for part in self.chunks(name) for c in part.chunks], kind)

    def chunks(self, name: str) -> Iterator[Any]:
        """The column piece by piece, row group by row group."""
        import pyarrow as pa

        if name in self.more:
            yield self.more[name]
            return
        kind = self.schema.field(name).type

        def as_told(part: Any) -> Any:
            column = part.column(name)
            return column if column.type == kind else column.cast(kind)

        for piece in self.pieces:
            text = dict(piece.given)
            if name in text:
                yield pa.chunked_array([pa.repeat(pa.scalar(text[name], pa.string()), piece.rows)], kind)
                continue
            yield from self._groups(piece, [name], as_told)

    def numbers(self, names: Sequence[str]) -> Floats:
        """Some number columns of the files in memory, float64 (names, rows), missing as NaN; a file of very many columns is asked once.

        Raises
        ------
        DataError
        """
        import pyarrow as pa

        def as_numbers(part: Any) -> list[Floats]:
            return [floats_of(part.column(name).cast(pa.float64(), safe=False)) for name in names]

        out, start = np.empty((len(names), self.num_rows)), 0
        for piece in self.pieces:
            for lines in self._groups(piece, names, as_numbers):
                stop = start + lines[0].size
                for k, line in enumerate(lines):
                    out[k, start:stop] = line
                start = stop
        return out

    @cached_property
    def crowded(self) -> bool:
        """Whether its files and what is decoded of them are more than the machine keeps in memory for the next look."""
        return sum(p.size for p in self.pieces) + 8.0 * self.num_rows * self.num_columns > CROWDED * machine_bytes()

    def _groups(self, piece: Piece, names: Sequence[str], of: Callable[[Any], Any]) -> Iterator[Any]:
        """What `of` makes of some columns of each row group; an error names the file."""
        import pyarrow as pa

        file = piece.kept_open()
        for group in range(file.num_row_groups):
            try:
                result = of(file.read_row_group(group, columns=list(names), use_threads=False))
            except (pa.ArrowInvalid, pa.ArrowTypeError, OSError, KeyError) as error:
                column = f" (column '{names[0]}')" if len(names) == 1 else ""
                raise DataError(f"{piece.name} cannot be read as parquet{column}: {first_line(error)}") from error
            yield result
            if self.crowded and not piece.remote:
                for name in names:
                    make_room(piece.path, *column_bytes(file, group, name))

    def batches(self, names: Sequence[str], size: int) -> Iterator[Any]:
        """Some columns in blocks of rows, as Arrow tables.

        Raises
        ------
        DataError
        """
        import pyarrow as pa

        schema = pa.schema([self.schema.field(n) for n in names])
        for piece in self.pieces:
            text, file = dict(piece.given), piece.open()
            try:
                for batch in file.iter_batches(size, columns=[n for n in names if n not in text]):
                    yield _under(schema, text, batch)
            except (pa.ArrowInvalid, pa.ArrowTypeError, OSError) as error:
                raise DataError(f"{piece.name} cannot be read as parquet: {first_line(error)}") from error
            finally:
                file.close()

    def without(self, names: Sequence[str]) -> StoredTable:
        """With fewer columns."""
        import pyarrow as pa

        return StoredTable(self.pieces, pa.schema([f for f in self.schema if f.name not in names]), self.more)

    def whole(self) -> Any:
        """All of it in memory, as an Arrow table."""
        return self.columns(self.column_names)

    def columns(self, names: Sequence[str]) -> Any:
        """Some columns in memory, as an Arrow table."""
        import pyarrow as pa

        schema = pa.schema([self.schema.field(n) for n in names], self.schema.metadata)
        if any(p.remote for p in self.pieces) and not any(n in self.more for n in names):
            return self._fetched(schema)
        return pa.table([self.column(n) for n in names], schema=schema)

    def _fetched(self, schema: Any) -> Any:
        """Columns of files far away, all of a row group at once: the way there takes longer than the reading."""
        import pyarrow as pa

        parts: list[Any] = []
        for piece in self.pieces:
            text = dict(piece.given)
            groups = self._groups(piece, [n for n in schema.names if n not in text], lambda part: part)
            parts.extend(_under(schema, text, group) for group in groups)
        return pa.concat_tables(parts) if parts else schema.empty_table()

    def append_column(self, name: str, cells: Any) -> StoredTable:
        """With a further column, which stays in memory."""
        import pyarrow as pa

        chunked = cells if isinstance(cells, pa.ChunkedArray) else pa.chunked_array([cells])
        return StoredTable(self.pieces, self.schema.append(pa.field(name, chunked.type)), {**self.more, name: chunked})

    def replace_schema_metadata(self, metadata: Any) -> StoredTable:
        return StoredTable(self.pieces, self.schema.with_metadata(metadata), self.more)

    def followed_by(self, other: StoredTable) -> StoredTable:
        """Both one after the other."""
        both = stored_table([(self.pieces[0], self.schema), (other.pieces[0], other.schema)])
        return StoredTable((*self.pieces, *other.pieces), both.schema)


def stored_table(parts: Sequence[tuple[Piece, Any]]) -> StoredTable:
    """One table of several pieces: the same columns in each, kinds that go together.

    Raises
    ------
    DataError
        Naming the file and the column, where one lacks it or holds another kind.
    """
    import pyarrow as pa

    (first, whole), *others = parts
    for piece, own in others:
        lacking = [n for n in whole.names if n not in own.names]
        further = [n for n in own.names if n not in whole.names]
        if lacking or further:
            what = f"lacks column '{lacking[0]}' of" if lacking else f"has a column '{further[0]}' that is not in"
            raise DataError(f"{piece.name} {what} {first.name}: all files of one table have the same columns")
        fields = []
        for name in whole.names:
            a, b = whole.field(name).type, own.field(name).type
            try:
                fields.append(a if a == b else unified(a, b))
            except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
                raise DataError(f"column '{name}' holds {b} in {piece.name} and {a} in {first.name}") from error
        whole = pa.schema([pa.field(n, t) for n, t in zip(whole.names, fields, strict=True)])
    return StoredTable(tuple(p for p, _ in parts), pa.schema([pa.field(f.name, f.type) for f in whole]))


def unified(a: Any, b: Any) -> Any:
    """The Arrow type that takes both."""
    import pyarrow as pa

    return pa.unify_schemas([pa.schema([("x", a)]), pa.schema([("x", b)])], promote_options="permissive").field("x").type


def _under(schema: Any, text: Mapping[str, str | None], part: Any) -> Any:
    """Rows of one file under the schema of the whole table, with what its folders say."""
    import pyarrow as pa

    cells = [pa.repeat(pa.scalar(text[f.name], pa.string()), part.num_rows) if f.name in text else part.column(f.name) for f in schema]
    return pa.table([c if c.type == f.type else c.cast(f.type) for c, f in zip(cells, schema, strict=True)], schema=schema)


def _with_given(schema: Any, piece: Piece) -> Any:
    """The schema with what the folders say."""
    import pyarrow as pa

    for key, _ in piece.given:
        if key in schema.names:
            raise DataError(f"{piece.name}: column '{key}' is in the file and in the name of its folder")
        schema = schema.append(pa.field(key, pa.string()))
    return schema
