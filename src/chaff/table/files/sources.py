"""Reading: whatever the user has in hand becomes one Arrow table and a label for messages.

Columns of pandas frames and plain arrays as Arrow arrays of their own.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from chaff.errors import DataError, UsageError
from chaff.files import reads
from chaff.table.files.folders import files_of, joined
from chaff.table.files.reading import Reading, first_line, refuse_twins
from chaff.table.files.text_files import ending, plain_file, read_csv


def from_pandas(frame: Any) -> Any:
    import pyarrow as pa

    names = [str(c) for c in frame.columns]
    refuse_twins(names, "the frame")
    arrays = []
    for k, name in enumerate(names):
        arrays.append(arrow_column(name, frame.iloc[:, k]))
    arrays = [pa.chunked_array([a]) if isinstance(a, pa.Array) else a for a in arrays]
    return pa.table(arrays, names=names)


def arrow_column(name: str, values: Any) -> Any:
    """A column as an Arrow array of its own: what happens to the frame afterwards changes nothing.

    Raises
    ------
    DataError
        For a mixture of kinds, and for values that no kind fits.
    """
    import numpy as np
    import pyarrow as pa

    try:
        plain = values.to_numpy() if hasattr(values, "to_numpy") and isinstance(getattr(values, "dtype", None), np.dtype) else values
        if isinstance(plain, np.ndarray) and plain.dtype.kind in "biufM":
            plain = np.array(plain, dtype=plain.dtype.newbyteorder("="), copy=True)
            if plain.dtype.kind == "f" and plain.dtype.itemsize > 8:
                plain = plain.astype(np.float64)
        return _plain_levels(pa.Array.from_pandas(plain), values)
    except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError, OverflowError, UnicodeError, ValueError) as error:
        cells = [v for v in list(values)[:2000] if v is not None and not (isinstance(v, float) and v != v)]
        kinds = sorted({type(v).__name__ for v in cells})
        if len(kinds) > 1:
            raise DataError(
                f"column '{name}' mixes {' and '.join(kinds)}: make it one kind first, for example with .astype(str)"
            ) from error
        of = f"{kinds[0]} values" if kinds else "values"
        raise DataError(
            f"column '{name}' holds {of} that no kind fits ({first_line(error)}): turn them into numbers or words first"
        ) from error


def _plain_levels(array: Any, values: Any) -> Any:
    """Levels that are intervals or the like, as the words they are shown as."""
    import pyarrow as pa
    import pyarrow.types as pt

    if not pt.is_dictionary(array.type):
        return array
    kind = array.type.value_type
    if pt.is_string(kind) or pt.is_large_string(kind) or pt.is_primitive(kind) or pt.is_boolean(kind) or pt.is_temporal(kind):
        return array
    return pa.array([None if v is None or v != v else str(v) for v in values.astype(object)], pa.string())


PARQUET_CELLS = 4_000_000  # read at a time


def read_source(source: Any, reading: Reading) -> tuple[Any, str]:
    """(Arrow table, label) from a path, a folder or a list of files, a pandas frame, an Arrow table or anything with the Arrow PyCapsule
    interface."""
    import pyarrow as pa

    if isinstance(source, list | tuple) and source and all(isinstance(s, str | Path) for s in source):
        paths = [Path(s) for s in source]
        label = f"{paths[0].name} and {len(paths) - 1} more" if len(paths) > 1 else paths[0].name
        return _checked(joined(paths, lambda p: read_path(p, reading)), label), label
    if isinstance(source, str | Path):
        path = Path(source)
        if is_folder(path):
            return _checked(joined(files_of(path), lambda p: read_path(p, reading), path), path.name or str(path)), path.name or str(path)
        return _checked(read_path(path, reading), path.name), path.name
    if isinstance(source, pa.Table):
        return _checked(source, "the table"), "the table"
    pandas = type(source).__module__.split(".")[0] == "pandas"
    if pandas and hasattr(source, "columns"):
        return _checked(from_pandas(source), "the frame"), "the frame"
    if not pandas and (hasattr(source, "__arrow_c_stream__") or isinstance(source, pa.RecordBatch)):
        try:
            return _checked(pa.table(source), "the table"), "the table"
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError, ValueError, TypeError) as error:
            if isinstance(error, DataError):
                raise
            raise DataError(f"the {type(source).__name__} gives no table: {first_line(error)}") from error
    raise UsageError(
        f"cannot read a table from {type(source).__name__}: pass a path, a folder, a list of files, a pandas frame, an Arrow table or "
        "another object with the Arrow PyCapsule interface; for X and y arrays use chaff.open_arrays(X, y)"
    )


def read_path(path: Path, reading: Reading) -> Any:
    """An Arrow table from a file, by its ending: .csv/.tsv/.txt (also compressed), .parquet, .feather/.arrow, .jsonl."""
    import pyarrow as pa

    check_there(path)
    reads(path)
    path = plain_file(path)
    kind = ending(path)
    try:
        if kind in (".csv", ".tsv", ".txt"):
            return read_csv(path, reading)
        if kind in (".parquet", ".pq"):
            import pyarrow.parquet as pq

            return _read_parquet(pq.ParquetFile(path, pre_buffer=False))
        if kind in (".feather", ".arrow", ".ipc"):
            import pyarrow.feather as feather

            result = feather.read_table(path, memory_map=False)
            result.validate(full=True)  # places outside of a damaged file would be read, and end the process
            return result
        if kind in (".jsonl", ".ndjson"):
            import pyarrow.json as pj

            return pj.read_json(str(path))
    except (pa.ArrowInvalid, pa.ArrowTypeError, OSError, UnicodeError) as error:
        raise DataError(f"{path.name} cannot be read as {kind[1:]}: {first_line(error)}") from error
    raise DataError(f"{path.name}: do not know how to read '{kind}'; use .csv, .tsv, .parquet, .feather, .arrow or .jsonl")


def is_folder(path: Path) -> bool:
    """Whether it is one; what cannot be asked is none."""
    try:
        return path.is_dir()
    except (OSError, ValueError):
        return False


def check_there(path: Path) -> None:
    """Refuse what is not there, is a folder, or is an empty file; a pipe has no size."""
    try:
        if not path.exists():
            raise DataError(f"no such file: {path}")
        if path.is_dir():
            raise DataError(f"{path} is a folder, not a file")
        if path.is_file() and path.stat().st_size == 0:
            raise DataError(f"{path.name} is empty: not even a header line")
    except (OSError, ValueError) as error:
        if isinstance(error, DataError):
            raise
        raise DataError(f"{str(path)[:200]!r} cannot be read: {error}") from error


def _read_parquet(file: Any) -> Any:
    """The whole file, some columns at a time, each number column in one piece: it can then be used without a second copy."""
    import pyarrow as pa
    import pyarrow.types as pt

    names = list(file.schema_arrow.names)
    subset = max(1, PARQUET_CELLS // max(file.metadata.num_rows, 1))
    if file.metadata.num_rows * len(names) <= PARQUET_CELLS or len(set(names)) < len(names):
        return file.read()
    columns = []
    for start in range(0, len(names), subset):
        part = file.read(columns=names[start : start + subset])
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


def _checked(table: Any, label: str) -> Any:
    refuse_twins(table.column_names, label)
    if table.num_columns == 0:
        raise DataError(f"{label} has no columns")
    if table.num_rows == 0:
        raise DataError(f"{label} has a header but no rows")
    return table
