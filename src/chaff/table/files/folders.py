"""Many files as one table: a folder, a list of paths, or partitions in folders named key=value; in the order of their names."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from chaff.errors import DataError

ENDINGS = (".parquet", ".pq", ".csv", ".tsv", ".txt", ".feather", ".arrow", ".ipc", ".jsonl", ".ndjson", ".gz", ".bz2", ".zst")
NO_VALUE = "__HIVE_DEFAULT_PARTITION__"


def files_of(folder: Path) -> list[Path]:
    """The files of tables below a folder, by name; hidden ones and those that begin with _ are somebody's notes.

    Raises
    ------
    DataError
        When there is none.
    """
    try:
        inside = sorted(folder.rglob("*"))
    except OSError as error:
        raise DataError(f"{folder} cannot be read: {error.strerror}") from error
    result = [p for p in inside if p.is_file() and p.suffix.lower() in ENDINGS and not is_hidden(p, folder)]
    if not result:
        raise DataError(f"{folder} is a folder without a table in it; tables end in {', '.join(ENDINGS[:3])} and the like")
    return result


def is_hidden(path: Path, folder: Path) -> bool:
    """Whether a file, or a folder on the way to it, is somebody's notes."""
    return any(part.startswith((".", "_")) for part in path.relative_to(folder).parts)


def partitions_of(path: Path, folder: Path) -> dict[str, str | None]:
    """What the folders between say of every row: `year=2026/mill=3` → year, mill."""
    out: dict[str, str | None] = {}
    for part in path.relative_to(folder).parts[:-1]:
        key, mark, value = part.partition("=")
        if mark and key:
            name = _decoded(key, path)
            if name in out:
                raise DataError(f"{path.name}: two folders above it say '{name}': {' / '.join(path.relative_to(folder).parts[:-1])}")
            out[name] = None if value == NO_VALUE else _decoded(value, path)
    return out


def _decoded(text: str, path: Path) -> str:
    """A name or value with its escapes turned into letters.

    Raises
    ------
    DataError
        When an escape is broken.
    """
    if re.search(r"%(?![0-9A-Fa-f]{2})", text):
        raise DataError(f"{path.name}: the folder name '{text}' above it holds a broken escape; % is written as %25")
    try:
        return unquote(text, errors="strict")
    except UnicodeDecodeError as error:
        raise DataError(f"{path.name}: the folder name '{text}' above it holds escapes that are no letters") from error


def joined(paths: Sequence[Path], read: Callable[[Path], Any], folder: Path | None = None) -> Any:
    """One Arrow table of several files.

    Raises
    ------
    DataError
        Naming the file and the column, where one lacks it or holds another kind.
    """
    import pyarrow as pa

    parts: list[Any] = []
    for path in paths:
        table = read(path)
        for key, value in (partitions_of(path, folder) if folder is not None else {}).items():
            if key in table.column_names:
                raise DataError(f"{path.name}: column '{key}' is in the file and in the name of its folder")
            table = table.append_column(key, pa.array([value] * table.num_rows, pa.string()))
        if parts:
            table = _fitting(table, parts[0], path, paths[0])
        parts.append(table)
    try:
        return pa.concat_tables(parts, promote_options="permissive")
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        raise DataError(f"{paths[0].name} and the files after it cannot be put together: {error}") from error


def _fitting(table: Any, first: Any, path: Path, first_path: Path) -> Any:
    """The table in the column order of the first one, each column of a kind that goes with it."""
    import pyarrow as pa

    here, there = set(table.column_names), set(first.column_names)  # looked up once: there may be a hundred thousand
    lacking = [n for n in first.column_names if n not in here]
    further = [n for n in table.column_names if n not in there]
    if lacking or further:
        what = f"lacks column '{lacking[0]}' of" if lacking else f"has a column '{further[0]}' that is not in"
        raise DataError(f"{path.name} {what} {first_path.name}: all files of one table have the same columns")
    table = table.select(first.column_names)
    for of_first, own in zip(first.schema, table.schema, strict=True):
        name, a, b = own.name, of_first.type, own.type
        if a == b:
            continue
        try:
            pa.unify_schemas([pa.schema([("x", a)]), pa.schema([("x", b)])], promote_options="permissive")
        except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
            raise DataError(f"column '{name}' holds {b} in {path.name} and {a} in {first_path.name}") from error
    return table
