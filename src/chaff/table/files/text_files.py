"""CSV files, by one reader everywhere: what was not told is found out from the file's head, and said where it could be wrong.

What comes through a pipe, put into a file: a table is looked at more than once.
"""

from __future__ import annotations

import csv
import io
import itertools
import os
import re
import select
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from chaff.errors import DataError, UsageError
from chaff.table.files.addresses import is_address
from chaff.table.files.reading import Reading, first_line, refuse_twins

PATIENCE = 20.0  # seconds that a pipe may stay silent at first
_FROM_PIPES: dict[str, Any] = {}


def plain_file(path: Path) -> Path:
    """The file itself, or what came through a pipe, put into a file: a table is looked at more than once.

    Raises
    ------
    DataError
        When nobody writes to the pipe.
    """
    if path.is_file():
        return path
    held = _FROM_PIPES.get(str(path))
    if held is None:
        held = tempfile.NamedTemporaryFile(suffix="".join(path.suffixes) or ".csv")  # noqa: SIM115  lives as long as the process
        _pour(path, held)
        _FROM_PIPES[str(path)] = held
    return Path(held.name)


def _pour(path: Path, into: Any) -> None:
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
    try:
        waiting, came = time.monotonic(), False
        while True:
            select.select([handle], [], [], 0.2)
            try:
                subset = os.read(handle, 1 << 20)
            except BlockingIOError:
                continue
            if subset:
                into.write(subset)
                came = True
            elif came or time.monotonic() - waiting > PATIENCE:
                break  # the other end was closed, or nobody ever came
            else:
                time.sleep(0.05)
    finally:
        os.close(handle)
    into.flush()
    if not came:
        raise DataError(f"nothing was written to {path} for {PATIENCE:.0f} seconds: it is a pipe, not a file")


SNIFF_BYTES = 1 << 18
DELIMITERS = ",;\t|"
# What tables are written in where it is not UTF-8; a short text fits many more, such as those of very old machines.
ENCODINGS = ("cp1252", "cp1250", "cp1251", "cp1253", "cp1254", "cp932", "gb18030", "big5", "euc_kr")
NUMBER_NAME = re.compile(r"[-+]?\d+([.,]\d+)?")
MOST_WORDS = 500  # for a missing cell that Arrow is told of; the others are taken out later, for very many crash it
COMPRESSED = (".gz", ".bz2", ".zst", ".lz4")


def read_csv(path: Path, reading: Reading) -> Any:
    import pyarrow as pa
    import pyarrow.csv as pc

    result = _csv_options(path, reading)
    result.options["convert_options"].column_types = {w: pa.string() for w in reading.words if w in result.names}
    return pc.read_csv(_stream(path), **result.options)


def guesses(source: Any, reading: Reading) -> tuple[str, ...]:
    """What was found out of a text file and could be wrong, in words: separator, decimal mark, encoding, header."""
    if not isinstance(source, str | Path) or is_address(source) or ending(Path(source)) not in (".csv", ".tsv", ".txt"):
        return ()
    result = _csv_options(plain_file(Path(source)), reading)
    out = []
    usual = "\t" if ending(Path(source)) == ".tsv" else ","
    if reading.delimiter is None and result.delimiter != usual:
        shown = "tab" if result.delimiter == "\t" else f"'{result.delimiter}'"
        out.append(f"separator {shown} (--delimiter)")
    if reading.decimal is None and result.decimal == ",":
        out.append("decimal comma (--decimal)")
    if reading.encoding is None and result.encoding != "utf-8":
        out.append(f"encoding {result.encoding} (--encoding)")
    notes = [f"detected in the file; override if wrong: {', '.join(out)}"] if out else []
    if result.names and sum(bool(NUMBER_NAME.fullmatch(n.strip())) for n in result.names) > len(result.names) / 2:
        subset = ", ".join(f"'{n.strip()}'" for n in result.names[:3])
        notes.append(f"most columns are named by a number ({subset}, …): has the file no header line?")
    return tuple(notes)


def csv_batches(path: Path, reading: Reading, choose: Callable[[list[str]], list[str]]) -> tuple[list[str], str, Iterator[Any]]:
    """(column names, decimal mark, Arrow tables of words one after the other) of a CSV file, with only the columns that `choose`
    picks from its names. No cell is read as anything: the first block of a file does not say what a later one holds."""
    import pyarrow as pa
    import pyarrow.csv as pc

    result = _csv_options(path, reading)
    names, options = result.names, result.options
    convert = options["convert_options"]
    convert.include_columns = choose(names)
    convert.column_types = {w: pa.string() for w in convert.include_columns}

    def tables() -> Iterator[Any]:
        try:
            with pc.open_csv(_stream(path), **options) as reader:
                empty = True
                for batch in reader:
                    empty = False
                    yield pa.Table.from_batches([batch])
                if empty:
                    yield reader.schema.empty_table()
        except (pa.ArrowInvalid, OSError, UnicodeError) as error:
            raise DataError(f"{path.name} cannot be read as csv: {first_line(error)}") from error

    return names, result.decimal, tables()


def csv_stream(path: Path, reading: Reading, kinds: dict[str, Any] | None) -> Any:
    """A reader of batches of a CSV file; `kinds` are Arrow types by column, those of the file's first block where there are none."""
    import pyarrow as pa
    import pyarrow.csv as pc

    result = _csv_options(path, reading)
    text = {w: pa.string() for w in reading.words if w in result.names}
    result.options["convert_options"].column_types = {**(kinds or {}), **text}
    return pc.open_csv(_stream(path), **result.options)


@dataclass(frozen=True)
class _Csv:
    """How a text file is read, told or found out from its head."""

    names: list[str]
    delimiter: str
    decimal: str
    encoding: str
    options: dict[str, Any]
    """Arguments for Arrow's readers."""


def _csv_options(path: Path, reading: Reading) -> _Csv:
    import pyarrow.csv as pc

    head, encoding = _head(path, reading.encoding)
    delimiter = _delimiter(reading.delimiter) or ("\t" if ending(path) == ".tsv" else sniff_delimiter(head))
    decimal = reading.decimal or sniff_decimal(head, delimiter)
    names = next(_rows(head, delimiter), [])
    refuse_twins([n.strip() for n in names], path.name)
    convert = pc.ConvertOptions(
        null_values=["", *reading.missing[:MOST_WORDS]], strings_can_be_null=True, quoted_strings_can_be_null=True, decimal_point=decimal
    )
    options = {
        "read_options": pc.ReadOptions(encoding=encoding),
        "parse_options": pc.ParseOptions(delimiter=delimiter, newlines_in_values=True),
        "convert_options": convert,
    }
    return _Csv(names, delimiter, decimal, encoding, options)


def _delimiter(text: str | None) -> str | None:
    if text is None:
        return None
    text = {"tab": "\t", "\\t": "\t", "comma": ",", "semicolon": ";", "space": " "}.get(text.lower(), text)
    if len(text) != 1 or ord(text) > 127 or text in '\r\n"\0':
        raise UsageError(f"delimiter must be one plain character (or tab), not {text!r}")
    return text


def _rows(text: str, delimiter: str) -> Iterator[list[str]]:
    """Lines of a text taken apart; what cannot be is left out, for it only serves to find out how a file is written."""
    csv.field_size_limit(max(csv.field_size_limit(), SNIFF_BYTES * 4))
    reader = csv.reader(io.StringIO(text.replace("\0", ""), newline=None), delimiter=delimiter)
    while True:
        try:
            yield next(reader)
        except StopIteration:
            return
        except csv.Error:
            continue


def _stream(path: Path) -> Any:
    import pyarrow as pa

    return pa.input_stream(str(path), compression="detect")


def _head(path: Path, encoding: str | None) -> tuple[str, str]:
    """The first part of a text file and its encoding: as told, by its byte order mark, UTF-8 if it is, else by its letters."""
    raw = _stream(path).read(SNIFF_BYTES)
    if encoding:
        try:
            return raw.decode(encoding, errors="replace"), encoding
        except (LookupError, ValueError) as error:
            raise UsageError(f"there is no text encoding {encoding!r}; utf-8, cp1252, utf-16 are usual ones") from error
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return raw.decode("utf-16", errors="replace"), "utf-16"
    cut = raw if len(raw) < SNIFF_BYTES else raw[: raw.rfind(b"\n") + 1 or None]
    try:
        return cut.decode("utf-8-sig"), "utf-8"
    except UnicodeDecodeError:
        from charset_normalizer import from_bytes

        best = from_bytes(cut, cp_isolation=list(ENCODINGS)).best()
        result = best.encoding if best else "cp1252"
        return cut.decode(result, errors="replace"), result


def sniff_delimiter(text: str) -> str:
    """The separator that cuts most lines into the same number of parts, more than one; a comma when none does."""
    best, score = ",", 0.0
    for mark in DELIMITERS:
        rows = [len(r) for r in itertools.islice((r for r in _rows(text, mark) if r), 200)]
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
    cells = [c.strip() for r in itertools.islice(_rows(text, delimiter), 1, 200) for c in r]
    commas = sum(bool(re.fullmatch(r"[-+]?\d+,\d+", c)) for c in cells)
    points = sum(bool(re.fullmatch(r"[-+]?\d+\.\d+", c)) for c in cells)
    return "," if commas > points else "."


def ending(path: Path) -> str:
    suffixes = [s.lower() for s in path.suffixes]
    if suffixes and suffixes[-1] in COMPRESSED:
        suffixes.pop()
    return suffixes[-1] if suffixes else ""
