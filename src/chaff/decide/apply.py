"""Applying a selection to other data, batch by batch so that a large file needs little memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

from chaff.decide.apply_kinds import From, of_kind, plain_cells, read_numbers
from chaff.decide.drift import Drifts, Watcher
from chaff.decide.selection_parts import DerivedPart, SelectionData
from chaff.errors import DataError, UsageError, nearest
from chaff.files import whole_file
from chaff.table.derived import WHOLE, date_part, filled_cells, flag_cells, gaps_of
from chaff.table.files.sources import check_there, is_folder, read_source
from chaff.table.files.text_files import csv_batches, ending, plain_file
from chaff.table.kinds import all_whole, decode
from chaff.table.large_tables import stored_files

BATCH = 65_536
GROUP = 131_072  # rows of a row group of Parquet


def apply_selection(
    selection: SelectionData, source: Any, out: str | Path | None, strict: bool = False, watcher: Watcher | None = None
) -> Any:
    """See `Selection.apply`; what the rows look like is left with the watcher."""
    watcher = watcher or (Watcher(selection) if strict else None)
    if isinstance(source, np.ndarray):
        return _of_array(selection, source)
    label, names, decimal, batches = _open(selection, source)
    wanted = _wanted_columns(selection, names, label)
    as_written = decimal == "." and out is not None and Path(out).suffix.lower() == ".csv"
    checked = (
        _derived(selection, _checked(selection, batch.select(wanted), From(label, decimal, as_written, watcher))) for batch in batches
    )
    if out is None:
        import pyarrow as pa

        whole = pa.concat_tables(list(checked), promote_options="permissive")
        _refuse_unlike(watcher, strict, label)
        return _plain_numbers(whole, selection).to_pandas() if decimal is not None else whole.to_pandas()
    return _write(checked, Path(out), decimal is not None, lambda: _refuse_unlike(watcher, strict, label))


def _refuse_unlike(watcher: Watcher | None, strict: bool, label: str) -> None:
    """Refuse rows that do not look like those that were selected from, once all have been seen."""
    unlike = watcher.drifts().unlike if strict and watcher is not None else ()
    if unlike:
        shown = "\n".join(f"  {u}" for u in unlike[:12]) + (f"\n  and {len(unlike) - 12} more" if len(unlike) > 12 else "")
        raise DataError(f"{label} differs from the rows of the selection (strict):\n{shown}")


def drift_of(selection: SelectionData, source: Any) -> Drifts:
    """See `Selection.drift`."""
    if isinstance(source, np.ndarray):
        raise UsageError("drift needs named columns: a file, a pandas frame or an Arrow table")
    watcher = Watcher(selection)
    label, names, decimal, batches = _open(selection, source)
    wanted = _wanted_columns(selection, names, label)
    for batch in batches:
        _checked(selection, batch.select(wanted), From(label, decimal, True, watcher))
    return watcher.drifts()


def _plain_numbers(table: Any, selection: SelectionData) -> Any:
    """Ids and groups of a text file as whole numbers, where every one is written as such a number is and none like 007."""
    import pyarrow as pa

    for name in (*selection.terms.ids, selection.terms.groups):
        if name is None or name not in table.column_names or not pa.types.is_string(table.schema.field(name).type):
            continue
        words = table.column(name).unique().drop_null().to_pylist()
        if words and all_whole(words) and all(str(int(w)) == w for w in words):
            table = table.set_column(table.column_names.index(name), name, table.column(name).cast(pa.int64()))
    return table


def _of_array(selection: SelectionData, X: Any) -> Any:
    known = selection.data.columns
    if isinstance(X, np.ma.MaskedArray):
        X = np.ma.filled(X.astype(float), np.nan)
    if X.ndim != 2 or X.shape[1] != len(known):
        raise DataError(f"the array must have the {len(known)} columns of the X that was selected from, not shape {X.shape}")
    if selection.derived:
        return _derived_array(selection, X)
    return X[:, [known.index(m) for k in selection.kept for m in (k.members or [k.name])]]


def _open(selection: SelectionData, source: Any) -> tuple[str, list[str], str | None, Iterator[Any]]:
    """(label, column names, decimal mark of a text file, batches as Arrow tables)."""
    import pyarrow as pa

    reading = selection.terms.reading
    stored = stored_files(source)
    if stored is not None:
        table, label = stored
        return label, table.column_names, None, table.batches(_wanted_columns(selection, table.column_names, label), BATCH)
    path = Path(source) if isinstance(source, str | Path) else None
    if path is not None and not is_folder(path):
        check_there(path)
        path = plain_file(path)
        if path.suffix.lower() in (".parquet", ".pq"):
            import pyarrow.parquet as pq

            try:
                file = pq.ParquetFile(path)
            except (pa.ArrowInvalid, OSError) as error:
                raise DataError(f"{path.name} cannot be read as parquet: {error}") from error
            wanted = _wanted_columns(selection, file.schema_arrow.names, path.name)
            groups = (pa.Table.from_batches([b]) for b in file.iter_batches(BATCH, columns=wanted))
            return path.name, list(file.schema_arrow.names), None, _never_empty(groups, file.schema_arrow, wanted)
        if ending(path) in (".csv", ".tsv", ".txt"):
            names, decimal, batches = csv_batches(path, reading, lambda result: _wanted_columns(selection, result, path.name))
            return path.name, names, decimal, batches
    arrow, label = read_source(source, reading)
    return label, list(arrow.column_names), None, iter([arrow])


def _never_empty(batches: Iterator[Any], schema: Any, wanted: list[str]) -> Iterator[Any]:
    import pyarrow as pa

    empty = True
    for batch in batches:
        empty = False
        yield batch
    if empty:
        yield pa.schema([schema.field(n) for n in wanted]).empty_table()


def _wanted_columns(selection: SelectionData, names: list[str], label: str) -> list[str]:
    """Target first if present, then ids, groups, order and weights if present, then the kept columns, all of which must be."""
    roles = [selection.target.name, *selection.terms.roles]
    kept = _stored(selection)
    gone = [k for k in kept if k not in names]
    if gone:
        shown = ", ".join(f"'{g}'" for g in gone[:5]) + (f" and {len(gone) - 5} more" if len(gone) > 5 else "")
        hint = nearest(gone[0], names) if len(gone) == 1 else ""
        raise DataError(f"{label} lacks kept column{'s' * (len(gone) > 1)} {shown}.{hint}")
    return list(dict.fromkeys([r for r in roles if r in names] + kept))


def _checked(selection: SelectionData, batch: Any, source: From) -> Any:
    """The batch with every kept column under the kind that the selection knows; refused otherwise. Cells of numbers are copied as
    they stand in a text file (`as_written`), once they are known to be numbers."""
    if source.decimal is not None and not source.as_written:
        batch = _measured_roles(selection, batch, source.decimal)
    parts = {n: part for part in selection.kept for n in part.members or [part.name]}
    for name in _stored(selection):
        column = plain_cells(selection, name, batch.column(name))
        if name in parts:  # what only a flag is made from may hold anything
            column = of_kind(selection, parts[name], name, column, source)
        batch = batch.set_column(batch.column_names.index(name), name, column)
    return batch


def _measured_roles(selection: SelectionData, batch: Any, decimal: str) -> Any:
    """A number target, weights and an order in numbers as numbers; ids and groups stay as they are written."""
    target = selection.target.name if selection.target.task == "regression" else None
    for name in (target, selection.terms.weights, selection.terms.order):
        if name in batch.column_names:
            batch = batch.set_column(batch.column_names.index(name), name, read_numbers(batch.column(name), decimal)[0])
    return batch


def _made(selection: SelectionData) -> dict[str, DerivedPart]:
    """Columns that are in no file → what they are made from: missing flags and parts of dates."""
    return {d.name: d for d in selection.derived if d.made != "fill"}


def _stored(selection: SelectionData) -> list[str]:
    """Columns that the kept features are read from."""
    made = _made(selection)
    members = [m for k in selection.kept for m in (k.members or [k.name])]
    return list(dict.fromkeys(n for m in members for n in (_read_for(made[m]) if m in made else (m,))))


def _read_for(d: DerivedPart) -> tuple[str, ...]:
    return (d.of, str(d.value)) if d.made == "since" else (d.of,)


def _derived(selection: SelectionData, batch: Any) -> Any:
    """The batch with missing flags made and gaps filled as the selection says, kept columns in their order."""
    if not selection.derived:
        return batch
    made, infinite = _made(selection), selection.terms.infinite == "missing"
    gaps = {d.of: gaps_of(batch.column(d.of), infinite) for d in selection.derived if d.made in ("fill", "missing flag")}
    for d in selection.derived:
        if d.made == "fill":
            place = batch.column_names.index(d.of)
            batch = batch.set_column(place, d.of, filled_cells(batch.column(d.of), gaps[d.of], d.value))
    for name, d in made.items():
        batch = batch.append_column(name, flag_cells(gaps[d.of]) if d.made == "missing flag" else _date_cells(selection, d, batch))
    stored = set(_stored(selection))
    roles = [n for n in batch.column_names if n not in stored and n not in made]
    return batch.select(list(dict.fromkeys([*roles, *(m for k in selection.kept for m in (k.members or [k.name]))])))


def _date_cells(selection: SelectionData, d: DerivedPart, batch: Any) -> Any:
    """A number from the dates of a batch, as an Arrow column."""
    import pyarrow as pa

    def days(name: str) -> Any:
        column = decode(name, batch.column(name), "date", None, selection.terms.dates.get(name))
        if column.kind != "date":
            raise DataError(f"column '{name}' holds no dates, but '{d.name}' is made from them")
        return column.values

    of = days(str(d.value)) if d.made == "since" else float(d.value or 0)
    values = pa.array(date_part(d.made, days(d.of), of), from_pandas=True)
    return pa.chunked_array([values.cast(pa.int64()) if d.made in WHOLE else values])


def _derived_array(selection: SelectionData, X: Any) -> Any:
    known = selection.data.columns
    dates = [d.name for d in selection.derived if d.made not in ("fill", "missing flag")]
    if dates:
        raise UsageError(f"'{dates[0]}' is made from dates, which an array does not hold: apply to a frame or a file")
    flags = {d.name: d.of for d in selection.derived if d.made == "missing flag"}
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


def _write(batches: Iterator[Any], out: Path, of_text: bool, check: Callable[[], None]) -> Path:
    if out.suffix.lower() not in (".csv", ".parquet"):
        raise UsageError(f"{out.name}: output must end in .csv or .parquet")
    with whole_file(out) as part:
        if out.suffix.lower() == ".csv":
            _write_csv(batches, part)
        else:
            _write_parquet(batches, part, of_text)
        check()
    return out


def _write_parquet(batches: Iterator[Any], path: Path, of_text: bool) -> None:
    import pyarrow.parquet as pq

    writer = None
    batches = _gathered(batches)
    try:
        for batch in batches:
            if writer is None:
                batch, ahead = _with_room(batch, batches, of_text)
                writer = pq.ParquetWriter(path, batch.schema)
                writer.write_table(batch)
                batch = ahead
            if batch is not None:
                writer.write_table(batch.cast(writer.schema))
    finally:
        if writer is not None:
            writer.close()


def _gathered(batches: Iterator[Any]) -> Iterator[Any]:
    """The small blocks of a text file in groups of rows that a Parquet file is well written in."""
    import pyarrow as pa

    held: list[Any] = []
    rows = 0
    for batch in batches:
        held.append(batch)
        rows += batch.num_rows
        if rows >= GROUP:
            yield held[0] if len(held) == 1 else pa.concat_tables(held, promote_options="permissive")
            held, rows = [], 0
    if held:
        yield held[0] if len(held) == 1 else pa.concat_tables(held, promote_options="permissive")


def _with_room(first: Any, batches: Iterator[Any], of_text: bool) -> tuple[Any, Any]:
    """(the first batch, the second or None): where there is a second one whole numbers of a text file become plain ones, for a
    later batch may hold fractions."""
    import pyarrow as pa
    import pyarrow.types as pt

    second = next(batches, None)
    if second is None:
        return first, None
    for k, field in enumerate(first.schema):
        if (of_text and pt.is_integer(field.type)) or pt.is_null(field.type):
            first = first.set_column(k, field.name, first.column(k).cast(pa.float64()))
    return first, second


def _write_csv(batches: Iterator[Any], path: Path) -> None:

    with path.open("wb") as file:
        first = True
        for batch in batches:
            if first:
                line = io.StringIO()
                csv.writer(line, lineterminator="\n").writerow(batch.column_names)
                file.write(line.getvalue().encode())
                first = False
            _write_rows(_plain(batch), file)


def _write_rows(batch: Any, file: Any) -> None:
    """Quotes only where a cell needs them."""
    import pyarrow as pa
    import pyarrow.csv as pc

    start = file.tell()
    try:
        pc.write_csv(batch, file, pc.WriteOptions(include_header=False, quoting_style="none"))
    except pa.ArrowInvalid:
        file.seek(start)
        file.truncate()
        pc.write_csv(batch, file, pc.WriteOptions(include_header=False))


def _plain(batch: Any) -> Any:
    """CSV knows no dictionaries and no views."""
    import pyarrow as pa
    import pyarrow.types as pt

    for k, field in enumerate(batch.schema):
        if pt.is_dictionary(field.type):
            batch = batch.set_column(k, field.name, batch.column(k).cast(field.type.value_type))
        elif pt.is_string_view(field.type):
            batch = batch.set_column(k, field.name, batch.column(k).cast(pa.string()))
    return batch
