"""Reading: whatever a person has in hand becomes one Arrow table and a label for messages."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from chaff.errors import DataError, UsageError

SNIFF_BYTES = 1 << 18
DELIMITERS = ",;\t|"
# What tables are written in where it is not UTF-8; a short text fits many more, such as those of very old machines.
ENCODINGS = ("cp1252", "cp1250", "cp1251", "cp1253", "cp1254", "cp932", "gb18030", "big5", "euc_kr")
COMPRESSED = (".gz", ".bz2", ".zst", ".lz4")


PARQUET_CELLS = 4_000_000  # read at a time


@dataclass(frozen=True)
class Reading:
    """How text files are read; None means: find out.

    Parameters
    ----------
    delimiter, decimal, encoding : str or None
        Column separator, decimal mark ("." or ",") and text encoding of a CSV file.
    missing : sequence of str
        Words that stand for a missing cell. The empty cell always does; any other text, "NA" and "None" too, is a value.
    """

    delimiter: str | None = None
    decimal: str | None = None
    encoding: str | None = None
    missing: Sequence[str] = ()


def read_source(source: Any, reading: Reading) -> tuple[Any, str]:
    """(Arrow table, label) from a path, a pandas frame, an Arrow table or anything with the Arrow PyCapsule interface."""
    import pyarrow as pa

    if isinstance(source, str | Path):
        path = Path(source)
        return _checked(read_path(path, reading), path.name), path.name
    if isinstance(source, pa.Table):
        return _checked(source, "the table"), "the table"
    if type(source).__module__.split(".")[0] == "pandas" and hasattr(source, "columns"):
        return _checked(_from_pandas(source), "the frame"), "the frame"
    if hasattr(source, "__arrow_c_stream__") or isinstance(source, pa.RecordBatch):
        return _checked(pa.table(source), "the table"), "the table"
    raise UsageError(
        f"cannot read a table from {type(source).__name__}: pass a path, a pandas frame, an Arrow table or another object "
        "with the Arrow PyCapsule interface; for X and y arrays use chaff.open_arrays(X, y)"
    )


def read_path(path: Path, reading: Reading) -> Any:
    """An Arrow table from a file, by its ending: .csv/.tsv/.txt (also compressed), .parquet, .feather/.arrow, .jsonl."""
    import pyarrow as pa

    if not path.exists():
        raise DataError(f"no such file: {path}")
    if path.is_dir():
        raise DataError(f"{path} is a folder, not a file")
    if path.stat().st_size == 0:
        raise DataError(f"{path.name} is empty: not even a header line")
    ending = _ending(path)
    try:
        if ending in (".csv", ".tsv", ".txt"):
            return read_csv(path, reading)
        if ending in (".parquet", ".pq"):
            import pyarrow.parquet as pq

            return _read_parquet(pq.ParquetFile(path, pre_buffer=False))
        if ending in (".feather", ".arrow", ".ipc"):
            import pyarrow.feather as feather

            return feather.read_table(path)
        if ending in (".jsonl", ".ndjson"):
            import pyarrow.json as pj

            return pj.read_json(str(path))
    except (pa.ArrowInvalid, pa.ArrowTypeError, OSError, UnicodeError) as error:
        raise DataError(f"{path.name} cannot be read as {ending[1:]}: {_first_line(error)}") from error
    raise DataError(f"{path.name}: do not know how to read '{ending}'; use .csv, .tsv, .parquet, .feather, .arrow or .jsonl")


def _read_parquet(file: Any) -> Any:
    """The whole file, some columns at a time, each number column in one piece: it can then be used without a second copy."""
    import pyarrow as pa
    import pyarrow.types as pt

    names = list(file.schema_arrow.names)
    some = max(1, PARQUET_CELLS // max(file.metadata.num_rows, 1))
    if file.metadata.num_rows * len(names) <= PARQUET_CELLS or len(set(names)) < len(names):
        return file.read()
    columns = []
    for start in range(0, len(names), some):
        part = file.read(columns=names[start : start + some])
        for column in part.columns:
            whole = column.num_chunks > 1 and (pt.is_integer(column.type) or pt.is_floating(column.type))
            columns.append(column.combine_chunks() if whole else column)
        del part
    return pa.table(columns, schema=file.schema_arrow)


def source_columns(source: Any) -> tuple[list[str], int, Any] | None:
    """(names, rows, reader of some columns) of a Parquet file, which can be read column by column; None for anything else."""
    if not isinstance(source, str | Path) or Path(source).suffix.lower() not in (".parquet", ".pq") or not Path(source).exists():
        return None
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        file = pq.ParquetFile(source)
    except (pa.ArrowInvalid, OSError) as error:
        raise DataError(f"{Path(source).name} cannot be read as parquet: {error}") from error
    return list(file.schema_arrow.names), file.metadata.num_rows, lambda names: file.read(columns=names)


def _ending(path: Path) -> str:
    suffixes = [s.lower() for s in path.suffixes]
    if suffixes and suffixes[-1] in COMPRESSED:
        suffixes.pop()
    return suffixes[-1] if suffixes else ""


def read_csv(path: Path, reading: Reading) -> Any:
    import pyarrow.csv as pc

    _, options = _csv_options(path, reading)
    return pc.read_csv(_stream(path), **options)


def csv_batches(
    path: Path, reading: Reading, choose: Callable[[list[str]], list[str]], words: Sequence[str]
) -> tuple[list[str], Iterator[Any]]:
    """(column names, Arrow tables one after the other) of a CSV file, with only the columns that `choose` picks from its
    names. `words` are read as text even where a file's cells all look like numbers."""
    import pyarrow as pa
    import pyarrow.csv as pc

    names, options = _csv_options(path, reading)
    convert = options["convert_options"]
    convert.include_columns = choose(names)
    convert.column_types = {w: pa.string() for w in words}

    def tables() -> Iterator[Any]:
        try:
            with pc.open_csv(_stream(path), **options) as reader:
                empty = True
                for batch in reader:
                    empty = False
                    yield pa.Table.from_batches([batch])
                if empty:
                    yield reader.schema.empty_table()
        except pa.ArrowInvalid as error:
            # A column whose first block holds other values than a later one: read whole, its kind is then known.
            if "conversion error" not in str(error):
                raise DataError(f"{path.name} cannot be read as csv: {_first_line(error)}") from error
            raise DataError(f"{path.name}: {_conversion_words(_first_line(error), names)}") from error

    return names, tables()


def _conversion_words(message: str, names: list[str]) -> str:
    """Arrow's message with the column's name in place of its number."""
    found = re.search(r"column #(\d+)", message)
    cell = re.search(r"invalid value '([^']*)'", message)
    name = names[int(found.group(1))] if found and int(found.group(1)) < len(names) else "?"
    return f"column '{name}' holds text among its numbers" + (f" (such as '{cell.group(1)}')" if cell else "")


def _csv_options(path: Path, reading: Reading) -> tuple[list[str], dict[str, Any]]:
    """(names in the header, arguments for Arrow's readers), everything that was not told found out from the file's head."""
    import pyarrow.csv as pc

    head, encoding = _head(path, reading.encoding)
    delimiter = reading.delimiter or ("\t" if _ending(path) == ".tsv" else sniff_delimiter(head))
    decimal = reading.decimal or sniff_decimal(head, delimiter)
    names = next(csv.reader(io.StringIO(head), delimiter=delimiter), [])
    _refuse_twins([n.strip() for n in names], path.name)
    convert = pc.ConvertOptions(
        null_values=["", *reading.missing], strings_can_be_null=True, quoted_strings_can_be_null=True, decimal_point=decimal
    )
    return names, {
        "read_options": pc.ReadOptions(encoding=encoding),
        "parse_options": pc.ParseOptions(delimiter=delimiter, newlines_in_values=True),
        "convert_options": convert,
    }


def _stream(path: Path) -> Any:
    import pyarrow as pa

    return pa.input_stream(str(path), compression="detect")


def _head(path: Path, encoding: str | None) -> tuple[str, str]:
    """The first part of a text file and its encoding: as told, by its byte order mark, UTF-8 if it is, else by its letters."""
    raw = _stream(path).read(SNIFF_BYTES)
    if encoding:
        return raw.decode(encoding, errors="replace"), encoding
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return raw.decode("utf-16", errors="replace"), "utf-16"
    cut = raw if len(raw) < SNIFF_BYTES else raw[: raw.rfind(b"\n") + 1 or None]
    try:
        return cut.decode("utf-8-sig"), "utf-8"
    except UnicodeDecodeError:
        from charset_normalizer import from_bytes

        best = from_bytes(cut, cp_isolation=list(ENCODINGS)).best()
        found = best.encoding if best else "cp1252"
        return cut.decode(found, errors="replace"), found


def sniff_delimiter(text: str) -> str:
    """The separator that cuts most lines into the same number of parts, more than one; a comma when none does."""
    best, score = ",", 0.0
    for mark in DELIMITERS:
        rows = [len(r) for r in csv.reader(io.StringIO(text), delimiter=mark) if r][:200]
        if not rows or rows[0] < 2:
            continue
        agree = Counter(rows)[rows[0]] / len(rows)
        if agree * rows[0] > score:
            best, score = mark, agree * rows[0]
    return best


def sniff_decimal(text: str, delimiter: str) -> str:
    """A comma when cells such as 12,5 outnumber cells such as 12.5; never where the comma separates columns."""
    if delimiter == ",":
        return "."
    cells = [c.strip() for r in list(csv.reader(io.StringIO(text), delimiter=delimiter))[1:200] for c in r]
    commas = sum(bool(re.fullmatch(r"[-+]?\d+,\d+", c)) for c in cells)
    points = sum(bool(re.fullmatch(r"[-+]?\d+\.\d+", c)) for c in cells)
    return "," if commas > points else "."


def _from_pandas(frame: Any) -> Any:
    import pyarrow as pa

    names = [str(c) for c in frame.columns]
    _refuse_twins(names, "the frame")
    arrays = []
    for name, key in zip(names, frame.columns, strict=True):
        try:
            arrays.append(pa.Array.from_pandas(frame[key]))
        except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
            kinds = sorted({type(v).__name__ for v in frame[key].dropna()})
            raise DataError(
                f"column '{name}' mixes {' and '.join(kinds)}: make it one kind first, for example with .astype(str)"
            ) from error
    arrays = [pa.chunked_array([a]) if isinstance(a, pa.Array) else a for a in arrays]
    return pa.table(arrays, names=names)


def _refuse_twins(names: Sequence[str], label: str) -> None:
    twins = sorted(n for n, k in Counter(names).items() if k > 1)
    if twins:
        listed = ", ".join(f"'{n}'" for n in twins)
        raise DataError(f"{label} has more than one column named {listed}: rename them, a name must say which column")


def _checked(table: Any, label: str) -> Any:
    _refuse_twins(table.column_names, label)
    if table.num_columns == 0:
        raise DataError(f"{label} has no columns")
    if table.num_rows == 0:
        raise DataError(f"{label} has a header but no rows")
    return table


def _first_line(error: BaseException) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0]
