"""Columns of pandas frames and plain arrays as Arrow arrays of their own."""

from __future__ import annotations

from typing import Any

from chaff.errors import DataError
from chaff.table.files.reading import first_line, refuse_twins


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
