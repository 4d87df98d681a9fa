"""Applying a selection to other data, batch by batch so that a large file needs little memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import DataError, UsageError, nearest
from chaff.files import whole_file
from chaff.table.derived import filled_cells, flag_cells, gaps_of, without_codes
from chaff.table.sources import csv_batches, read_source

if TYPE_CHECKING:
    from chaff.decide.selection import KeptPart, Selection

BATCH = 65_536


def apply_selection(selection: Selection, source: Any, out: str | Path | None) -> Any:
    if isinstance(source, np.ndarray):
        return _of_array(selection, source)
    label, names, batches = _open(selection, source)
    wanted = _wanted_columns(selection, names, label)
    checked = (_derived(selection, _checked(selection, batch.select(wanted), label)) for batch in batches)
    if out is None:
        import pyarrow as pa

        tables = list(checked)
        return pa.concat_tables(tables, promote_options="permissive").to_pandas()
    return _write(checked, Path(out))


def _of_array(selection: Selection, X: Any) -> Any:
    known = selection.data.columns
    if X.ndim != 2 or X.shape[1] != len(known):
        raise DataError(f"the array must have the {len(known)} columns of the X that was selected from, not shape {X.shape}")
    if selection.derived:
        return _derived_array(selection, X)
    return X[:, [known.index(k.name) for k in selection.kept]]


def _open(selection: Selection, source: Any) -> tuple[str, list[str], Iterator[Any]]:
    """(label, column names, batches as Arrow tables)."""
    import pyarrow as pa

    reading = selection.terms.reading
    path = Path(source) if isinstance(source, str | Path) else None
    if path is not None and path.exists() and path.stat().st_size:
        if path.suffix.lower() in (".parquet", ".pq"):
            import pyarrow.parquet as pq

            try:
                file = pq.ParquetFile(path)
            except (pa.ArrowInvalid, OSError) as error:
                raise DataError(f"{path.name} cannot be read as parquet: {error}") from error
            wanted = _wanted_columns(selection, file.schema_arrow.names, path.name)
            groups = (pa.Table.from_batches([b]) for b in file.iter_batches(BATCH, columns=wanted))
            return path.name, list(file.schema_arrow.names), _never_empty(groups, file.schema_arrow, wanted)
        if path.suffix.lower() in (".csv", ".tsv", ".txt"):
            words = [k.name for k in selection.kept if k.words]
            names, batches = csv_batches(path, reading, lambda found: _wanted_columns(selection, found, path.name), words)
            return path.name, names, batches
    table, label = read_source(source, reading)
    return label, list(table.column_names), iter([table])


def _never_empty(batches: Iterator[Any], schema: Any, wanted: list[str]) -> Iterator[Any]:
    import pyarrow as pa

    empty = True
    for batch in batches:
        empty = False
        yield batch
    if empty:
        yield pa.schema([schema.field(n) for n in wanted]).empty_table()


def _wanted_columns(selection: Selection, names: list[str], label: str) -> list[str]:
    """Target first if present, then ids, groups, order and weights if present, then the kept columns, all of which must be."""
    roles = [selection.target.name, *selection.terms.roles]
    kept = _stored(selection)
    gone = [k for k in kept if k not in names]
    if gone:
        shown = ", ".join(f"'{g}'" for g in gone[:5]) + (f" and {len(gone) - 5} more" if len(gone) > 5 else "")
        hint = nearest(gone[0], names) if len(gone) == 1 else ""
        raise DataError(f"{label} lacks kept column{'s' * (len(gone) > 1)} {shown}.{hint}")
    return list(dict.fromkeys([r for r in roles if r in names] + kept))


def _checked(selection: Selection, batch: Any, label: str) -> Any:
    """The batch with every kept column under the kind that the selection knows; refused otherwise."""
    import pyarrow as pa
    import pyarrow.types as pt

    flags, codes = _flags(selection), selection.terms.missing_codes
    for name in _stored(selection):
        if name in codes:
            batch = batch.set_column(batch.column_names.index(name), name, without_codes(batch.column(name), tuple(map(str, codes[name]))))
    for part in selection.kept:
        for name in part.members or [part.name]:
            if name in flags:
                continue
            column = batch.column(name)
            kind = column.type
            if pt.is_dictionary(kind):
                kind = kind.value_type
            wordy = pt.is_string(kind) or pt.is_large_string(kind) or pt.is_string_view(kind)
            numeric = pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind) or pt.is_boolean(kind) or pt.is_null(kind)
            if part.words and pt.is_null(kind):
                batch = batch.set_column(batch.column_names.index(name), name, column.cast(pa.string()))
            elif part.words and not wordy and not pt.is_boolean(kind):
                raise _other_kind(part, name, label, f"{_sort(kind)} values")
            elif not part.words and not part.members and not numeric:
                raise _other_kind(part, name, label, f"{_sort(kind)} values{_example(column)}")
    return batch


def _flags(selection: Selection) -> dict[str, str]:
    """Missing flag → the column it is made from."""
    return {d.name: d.of for d in selection.derived if d.made == "missing flag"}


def _stored(selection: Selection) -> list[str]:
    """Columns that the kept features are read from."""
    flags = _flags(selection)
    return list(dict.fromkeys(flags.get(m, m) for k in selection.kept for m in (k.members or [k.name])))


def _derived(selection: Selection, batch: Any) -> Any:
    """The batch with missing flags made and gaps filled as the selection says, kept columns in their order."""
    if not selection.derived:
        return batch
    flags, infinite = _flags(selection), selection.terms.infinite == "missing"
    gaps = {d.of: gaps_of(batch.column(d.of), infinite) for d in selection.derived}
    for d in selection.derived:
        if d.made == "fill":
            place = batch.column_names.index(d.of)
            batch = batch.set_column(place, d.of, filled_cells(batch.column(d.of), gaps[d.of], d.value))
    for name, of in flags.items():
        batch = batch.append_column(name, flag_cells(gaps[of]))
    roles = [n for n in batch.column_names if n not in _stored(selection) and n not in flags]
    return batch.select(list(dict.fromkeys([*roles, *(m for k in selection.kept for m in (k.members or [k.name]))])))


def _derived_array(selection: Selection, X: Any) -> Any:
    known, flags = selection.data.columns, _flags(selection)
    fills = {d.of: d.value for d in selection.derived if d.made == "fill"}

    def missing(values: Any) -> Any:
        return np.array([v is None or v != v for v in values])

    out = []
    for part in selection.kept:
        values = X[:, known.index(flags.get(part.name, part.name))]
        if part.name in flags:
            values = missing(values).astype(float)
        elif part.name in fills:
            values = np.where(missing(values), fills[part.name], values)
        out.append(values)
    return np.stack(out, axis=1)


def _other_kind(part: KeptPart, name: str, label: str, holds: str) -> DataError:
    wants = "words" if part.words else "numbers"
    return DataError(f"column '{name}' of {label} holds {holds}, but the selection knows it as {part.kind} ({wants})")


def _sort(kind: Any) -> str:
    import pyarrow.types as pt

    if pt.is_temporal(kind):
        return "date"
    if pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind):
        return "number"
    return "text"


def _example(column: Any) -> str:
    """The first cell that is no number."""
    for value in column.to_pylist():
        try:
            float(value)
        except (TypeError, ValueError):
            if value is not None:
                return f" (such as '{value}')"
    return ""


def _write(batches: Iterator[Any], out: Path) -> Path:
    if out.suffix.lower() not in (".csv", ".parquet"):
        raise UsageError(f"{out.name}: output must end in .csv or .parquet")
    with whole_file(out) as part:
        (_write_csv if out.suffix.lower() == ".csv" else _write_parquet)(batches, part)
    return out


def _write_parquet(batches: Iterator[Any], path: Path) -> None:
    import pyarrow.parquet as pq

    writer = None
    try:
        for batch in batches:
            if writer is None:
                writer = pq.ParquetWriter(path, batch.schema)
            writer.write_table(batch.cast(writer.schema))
    finally:
        if writer is not None:
            writer.close()


def _write_csv(batches: Iterator[Any], path: Path) -> None:
    import pyarrow.csv as pc

    with path.open("wb") as file:
        first = True
        for batch in batches:
            if first:
                line = io.StringIO()
                csv.writer(line, lineterminator="\n").writerow(batch.column_names)
                file.write(line.getvalue().encode())
                first = False
            pc.write_csv(_plain(batch), file, pc.WriteOptions(include_header=False))


def _plain(batch: Any) -> Any:
    """CSV knows no dictionaries."""
    import pyarrow.types as pt

    for k, field in enumerate(batch.schema):
        if pt.is_dictionary(field.type):
            batch = batch.set_column(k, field.name, batch.column(k).cast(field.type.value_type))
    return batch
