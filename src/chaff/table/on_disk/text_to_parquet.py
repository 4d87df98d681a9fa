"""Text files as Parquet in scratch, once: piece by piece, so that a file of any size is turned; read from there ever after."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from chaff.errors import DataError
from chaff.files import reads
from chaff.memory import size_in_words
from chaff.table.files.reading import Reading, first_line
from chaff.table.files.sources import check_there
from chaff.table.files.text_files import csv_stream, ending, plain_file
from chaff.table.on_disk.scratch import Scratch
from chaff.table.on_disk.stored import unified

GROUP = 131_072  # rows of a row group
WHOLE_SHARE = 0.25  # of the memory, that a file which can only be read whole may take


def parquet_of(path: Path, reading: Reading, root: Path, limit: float) -> Path:
    """The Parquet file of a text file, made where it is not there yet.

    Raises
    ------
    DataError
        Also when a file that can only be read whole is too large for that.
    """
    check_there(path)
    reads(path)
    path = plain_file(path)
    stat = path.stat()
    scratch = Scratch.of(root, path.resolve(), stat.st_size, stat.st_mtime_ns, reading)
    place = scratch.folder / "text.parquet"
    if scratch.described(place) is None:
        kind = ending(path)
        if kind in (".csv", ".tsv", ".txt"):
            _of_csv(path, reading, scratch, place)
        else:
            _of_whole(path, reading, scratch, place, limit)
        scratch.describe(place, {"text": path.name})
    return place


def _of_csv(path: Path, reading: Reading, scratch: Scratch, place: Path) -> None:
    """With the kinds of the first block where the whole file keeps to them, else with those that all blocks share."""
    import pyarrow as pa

    try:
        _write(scratch, place, lambda: csv_stream(path, reading, None))
    except pa.ArrowInvalid:
        try:
            kinds = _kinds_of_all(path, reading)
            _write(scratch, place, lambda: csv_stream(path, reading, kinds))
        except (pa.ArrowInvalid, UnicodeError) as error:
            raise DataError(f"{path.name} cannot be read as csv: {first_line(error)}") from error
    except UnicodeError as error:
        raise DataError(f"{path.name} cannot be read as csv: {first_line(error)}") from error


def _write(scratch: Scratch, place: Path, stream: Callable[[], Any]) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    with stream() as reader, scratch.writing(place) as part, pq.ParquetWriter(part, reader.schema, compression="zstd") as writer:
        waiting: list[Any] = []
        for batch in reader:
            waiting.append(batch)
            if sum(b.num_rows for b in waiting) >= GROUP:
                writer.write_table(pa.Table.from_batches(waiting), row_group_size=GROUP)
                waiting = []
        if waiting:
            writer.write_table(pa.Table.from_batches(waiting), row_group_size=GROUP)


def _kinds_of_all(path: Path, reading: Reading) -> dict[str, Any]:
    """The kind of each column that every block of a text file fits: as the first block reads it, whole numbers that turn out as
    fractions are numbers, anything else is words."""
    import pyarrow as pa

    with csv_stream(path, reading, None) as first:
        kinds = {f.name: f.type for f in first.schema}
    with csv_stream(path, reading, dict.fromkeys(kinds, pa.string())) as words:
        for batch in words:
            for name, kind in kinds.items():
                kinds[name] = _wide_enough(batch.column(batch.schema.get_field_index(name)), kind)
    return kinds


def _wide_enough(cells: Any, kind: Any) -> Any:
    """The first of this kind, numbers and words that the cells fit."""
    import pyarrow as pa
    import pyarrow.compute as pc
    import pyarrow.types as pt

    if pt.is_string(kind) or cells.null_count == len(cells):
        return kind
    tries = [pa.int64(), pa.float64()] if pt.is_null(kind) else [kind, pa.float64()] if pt.is_integer(kind) else [kind]
    trimmed = pc.utf8_trim_whitespace(cells)
    for wider in tries:
        try:
            trimmed.cast(wider)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            continue
        return wider if pt.is_null(kind) else unified(kind, wider)
    return pa.string()


def _of_whole(path: Path, reading: Reading, scratch: Scratch, place: Path, limit: float) -> None:
    """Feather and JSON lines, which are read whole."""
    import pyarrow.parquet as pq

    from chaff.table.files.sources import read_path

    size = path.stat().st_size
    if size > WHOLE_SHARE * limit:
        raise DataError(
            f"{path.name} ({size_in_words(size)}) can only be read whole, which does not fit into {size_in_words(limit)} of memory: "
            "write it as Parquet or CSV first"
        )
    table = read_path(path, reading)
    with scratch.writing(place) as part:
        pq.write_table(table, part, row_group_size=GROUP, compression="zstd")
