"""Columns made from columns: a flag for what is missing, a value in its place. Recorded, so that `apply` makes them again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from chaff.errors import DataError, UsageError
from chaff.table.kinds import Column

FLAG_LEVELS = ("present", "missing")


@dataclass(frozen=True)
class Derived:
    """One derivation."""

    name: str
    """Column that comes of it: a new one for a flag, the same one for a fill."""
    made: Literal["missing flag", "fill"]
    of: str
    value: float | str | None = None


def missing_flag(derived: Derived, column: Column) -> Column:
    """1 where the column is missing, else 0."""
    return Column(derived.name, "binary", column.missing.astype(float), FLAG_LEVELS, True)


def filled(derived: Derived, column: Column) -> Column:
    """The column with its gaps filled; a word that is no level yet becomes one."""
    gaps = column.missing
    if not column.levels:
        return replace(column, values=np.where(gaps, float(derived.value), column.values))  # type: ignore[arg-type]
    word = str(derived.value)
    levels = column.levels if word in column.levels else tuple(sorted((*column.levels, word)))
    place = np.array([levels.index(level) for level in column.levels], float)
    values = np.full(column.values.size, float(levels.index(word)))
    values[~gaps] = place[column.values[~gaps].astype(np.int64)]
    kind = "category" if len(levels) > 2 and column.kind == "binary" else column.kind
    return replace(column, kind=kind, values=values, levels=levels)


def checked_fill(column: Column, value: object) -> float | str:
    """The value in the column's own terms."""
    if column.kind in ("date", "text"):
        raise UsageError(f"column '{column.name}' holds {column.kind} values, which take no part: filling it would change nothing")
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


def flags_for(names: tuple[str, ...], known: Mapping[str, object] | frozenset[str]) -> tuple[Derived, ...]:
    """One flag a column, under names that nothing has yet."""
    for name in names:
        if flag_name(name) in known:
            raise DataError(f"a column '{flag_name(name)}' exists already; a missing flag of '{name}' cannot take its name")
    return tuple(Derived(flag_name(n), "missing flag", n) for n in names)
