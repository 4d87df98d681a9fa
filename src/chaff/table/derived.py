"""Columns made from columns: a flag for what is missing, a value in its place, numbers from dates.

Made from cells as they are stored, so that a table and `apply`, batch by batch, make the same ones.

Numbers from dates: age against a fixed day, year, month, weekday, hour, and the days since another date.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any, Literal

import numpy as np

from chaff.arrays import Floats
from chaff.errors import DataError, UsageError, nearest
from chaff.table.kinds import Column, number_word

FLAG_LEVELS = ("present", "missing")


@dataclass(frozen=True)
class Derived:
    """One derivation."""

    name: str
    """Column that comes of it: a new one for a flag or a part of a date, the same one for a fill."""
    made: Literal["missing flag", "fill", "age", "year", "month", "weekday", "hour", "since"]
    of: str
    value: float | str | None = None


def gaps_of(column: Any, infinite_is_missing: bool) -> Any:
    """Which cells of an Arrow column are missing."""
    import pyarrow.compute as pc
    import pyarrow.types as pt

    if not pt.is_floating(column.type):
        return pc.is_null(column)
    gaps = pc.is_null(column, nan_is_null=True)
    return pc.or_kleene(gaps, pc.fill_null(pc.is_inf(column), False)) if infinite_is_missing else gaps


def without_codes(column: Any, codes: Collection[str]) -> Any:
    """The column with the cells that hold one of these codes missing; numbers are compared by value, words as they stand."""
    import pyarrow as pa
    import pyarrow.compute as pc
    import pyarrow.types as pt

    if pt.is_dictionary(column.type):
        column = column.cast(column.type.value_type)
    kind = column.type
    if pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind):
        numbers = [n for n in map(_as_number, codes) if n is not None]
        coded = pc.is_in(column.cast(pa.float64(), safe=False), pa.array(numbers, pa.float64()))
    else:
        coded = pc.is_in(column.cast(pa.string()), pa.array([str(c) for c in codes], pa.string()))
    return pc.if_else(coded, pa.scalar(None, kind), column)


def flag_cells(gaps: Any) -> Any:
    """0 or 1 in every row."""
    import pyarrow as pa

    return gaps.cast(pa.int8())


def filled_cells(column: Any, gaps: Any, value: float | str | None) -> Any:
    """The column with a value in its gaps. A word among numbers turns them into words; a fraction among whole numbers makes
    fractions of all."""
    import pyarrow as pa
    import pyarrow.compute as pc
    import pyarrow.types as pt

    if pt.is_dictionary(column.type):
        column = column.cast(column.type.value_type)
    kind = column.type
    wordy = pt.is_string(kind) or pt.is_large_string(kind) or pt.is_string_view(kind)
    if wordy:
        return pc.if_else(gaps, pa.scalar(number_word(value) if isinstance(value, float) else str(value), kind), column)
    number = _as_number(value)
    if pt.is_boolean(kind) or number is None:
        cells = [None if v is None or v != v else number_word(float(v)) if not isinstance(v, bool) else str(v) for v in column.to_pylist()]
        return pc.if_else(gaps, pa.scalar(str(value)), pa.chunked_array([pa.array(cells, pa.string())]))
    if pt.is_integer(kind) and not number.is_integer():
        kind = pa.float64()
    return pc.if_else(gaps, pa.scalar(int(number) if pt.is_integer(kind) else number, kind), column.cast(kind))


def _as_number(value: object) -> float | None:
    try:
        return float(value)  # type: ignore[arg-type]
    except (TypeError, ValueError):
        return None


def flag_column(name: str, cells: Any) -> Column:
    """A flag as a table sees it."""
    return Column(name, "binary", np.asarray(cells.to_numpy(), np.float64), FLAG_LEVELS, True)


def checked_fill(column: Column, value: object) -> float | str:
    """The value in the column's own terms."""
    if column.kind in ("date", "text"):
        raise UsageError(f"column '{column.name}' holds {column.kind} values, which are not used: filling it would change nothing")
    if column.levels:
        return str(value)
    if isinstance(value, str):
        try:
            value = float(value)
        except ValueError as error:
            raise UsageError(f"column '{column.name}' holds numbers, so it cannot be filled with '{value}'") from error
    if not isinstance(value, int | float | np.number) or not np.isfinite(float(value)):
        raise UsageError(f"column '{column.name}' holds numbers, so it cannot be filled with {value!r}")
    return float(value)


def flag_name(name: str) -> str:
    return f"{name}_missing"


def flags_for(names: tuple[str, ...], known: Mapping[str, object] | Collection[str]) -> tuple[Derived, ...]:
    """One flag a column, under names that nothing has yet."""
    for name in names:
        if flag_name(name) in known:
            raise DataError(f"a column '{flag_name(name)}' exists already; a missing flag of '{name}' cannot take its name")
    return tuple(Derived(flag_name(n), "missing flag", n) for n in names)


PARTS = ("age", "year", "month", "weekday", "hour")
SINCE = "since:"
EPOCH = date(1970, 1, 1)
WHOLE = ("year", "month", "weekday", "hour")


def date_part(made: str, days: Floats, of: float | Floats) -> Floats:
    """float64 (rows,) from days since 1970; NaN where a date is missing.

    of : for an age the day that it is counted to, for `since` the other date's days.
    """
    if made == "age":
        return np.asarray(of - days)
    if made == "since":
        return np.asarray(days - of)
    out = np.full(days.shape, np.nan)
    there = np.isfinite(days)
    whole = np.floor(days[there])
    if made == "hour":
        out[there] = np.floor((days[there] - whole) * 24 + 1e-9)
    elif made == "weekday":
        out[there] = (whole + 3) % 7 + 1  # 1970 began with a Thursday; Monday is 1
    else:
        stamps = whole.astype(np.int64).astype("datetime64[D]")
        months = stamps.astype("datetime64[M]").astype(np.int64)
        out[there] = months // 12 + 1970 if made == "year" else months % 12 + 1
    return out


def others_in(parts: Sequence[str]) -> set[str]:
    """The other columns that these parts count from."""
    return {p.removeprefix(SINCE) for p in parts if p.startswith(SINCE)}


def derived_parts(name: str, parts: Sequence[str], last: float) -> tuple[tuple[Derived, ...], tuple[str, ...]]:
    """(the columns that come of a date, the parts with the day of an age written down).

    last : the day of the last row, to which an age is counted that names no day (`age:2026-03-31` does).

    Raises
    ------
    UsageError
    """
    made, fixed = [], []
    for part in map(str, parts):
        if part.startswith(SINCE) and part != SINCE:
            other = part.removeprefix(SINCE)
            made.append(Derived(f"{name}_days_since_{other}", "since", name, other))
        elif part.partition(":")[0] == "age":
            day = _day_of(name, part) if ":" in part else np.floor(last)
            part = f"age:{EPOCH + timedelta(days=int(day))}"
            made.append(Derived(f"{name}_age_days", "age", name, float(day)))
        elif part in PARTS:
            made.append(Derived(f"{name}_{part}", part, name))  # type: ignore[arg-type]
        else:
            known = [*PARTS, "age:DATE", "since:COLUMN"]
            raise UsageError(f"derive '{name}': unknown part '{part}'; choose from {', '.join(known)}.{nearest(part, PARTS)}")
        fixed.append(part)
    return tuple(made), tuple(fixed)


def _day_of(name: str, part: str) -> float:
    try:
        return float((date.fromisoformat(part.partition(":")[2]) - EPOCH).days)
    except ValueError as error:
        raise UsageError(f"derive '{name}': '{part}' must name a day such as age:2026-03-31") from error
