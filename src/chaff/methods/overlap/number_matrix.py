"""Number columns as a matrix: pairwise or complete rows, said in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.errors import DataError, UsageError
from chaff.memory import machine_bytes
from chaff.table.table import Table
from chaff.visible import listed

TELL = 1e9  # bytes from which the need is told
ENOUGH = 10  # complete rows a column, and half of all rows, from which complete rows are used


@dataclass(frozen=True)
class Matrix:
    """Columns (p, n), NaN where missing."""

    names: tuple[str, ...]
    X: Floats
    note: str = ""


def number_names(table: Table, features: Sequence[str] | None = None) -> tuple[list[str], str]:
    """(number and binary columns with any spread, what was left out in words)."""
    if features is not None:
        table.check_known(features)
    names = [f for f in (features if features is not None else table.features) if table.kind(f) in ("number", "binary")]
    other = [f for f in features or () if f not in names]
    if other:
        raise UsageError(f"'{other[0]}' holds {table.kind(other[0])} values, not numbers; chaff.associations takes every kind")
    still = [f for f in names if not _varies(table.column(f).values)]
    names = [f for f in names if f not in still]
    words = listed(still, 5)
    return names, f"without spread, so left out: {words}" if still else ""


def target_as_number(table: Table) -> bool:
    """Whether the target can stand among number columns: a number, or two classes as 0 and 1."""
    return table.target.task == "regression" or len(table.target.classes) == 2


def number_matrix(table: Table, features: Sequence[str] | None = None, with_target: bool = False) -> Matrix:
    """Number and binary columns; those without spread take no part, which is said.

    Raises
    ------
    DataError
        Also when the matrix and its square would not fit into memory: says how much it would take.
    """
    names, words = number_names(table, features)
    with_target = with_target and target_as_number(table)
    p = len(names) + with_target
    if p < 2:
        raise DataError(f"{table.label} has {'only one column' if names else 'no column'} of numbers with any spread: nothing to compare")
    check_memory(p, len(table))
    columns = [table.column(f).values for f in names] + ([table.y] if with_target else [])
    return Matrix((*names, table.target.name) if with_target else tuple(names), np.array(columns), words)


def bytes_for(columns: int, rows: int) -> float:
    """What a matrix of columns, its standardised copy and some square tables take."""
    return 8.0 * (2.5 * columns * rows + 6.0 * columns * columns)


def check_memory(columns: int, rows: int) -> None:
    """Refused, with the size, when it is more than the machine has to give."""
    need, there = bytes_for(columns, rows), machine_bytes()
    if need > 0.8 * there:
        raise DataError(
            f"{columns:,} columns by {rows:,} rows take about {need / 1e9:.1f} GB, of {there / 1e9:.1f} GB that are there: "
            "name fewer columns with features=…, or take fewer rows"
        )


def _varies(values: Floats) -> bool:
    present = values[~np.isnan(values)]
    return present.size > 1 and bool(present.min() < present.max())


def complete_rows(matrix: Matrix, insist: bool = False) -> tuple[Matrix, str]:
    """(columns over the rows where all are present, note); refused when there are too few and `insist`."""
    there = ~np.isnan(matrix.X).any(0)
    count, p = int(there.sum()), len(matrix.names)
    if there.all():
        return matrix, ""
    if count < 3 or (insist and count <= p):
        raise DataError(f"only {count:,} rows have all {p} columns: leave out those with most gaps, or fill them (table.with_fill)")
    return Matrix(matrix.names, matrix.X[:, there], matrix.note), f"{count:,} complete rows of {there.size:,}"


def enough_complete(matrix: Matrix) -> bool:
    there = int((~np.isnan(matrix.X).any(0)).sum())
    return bool(there >= max(ENOUGH * len(matrix.names), 0.5 * matrix.X.shape[1]))
