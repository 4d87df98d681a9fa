"""Number columns as a matrix: pairwise or complete rows, said in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from chaff.errors import DataError, UsageError
from chaff.table.table import Table

Floats = npt.NDArray[np.float64]
ENOUGH = 10  # complete rows a column, and half of all rows, from which complete rows are used


@dataclass(frozen=True)
class Matrix:
    """Columns (p, n), NaN where missing."""

    names: tuple[str, ...]
    X: Floats
    note: str = ""


def number_matrix(table: Table, features: Sequence[str] | None = None, with_target: bool = False) -> Matrix:
    """Number and binary columns; without spread they take no part, which is said."""
    if features is not None:
        table.check_known(features)
    names = [f for f in (features if features is not None else table.features) if table.kind(f) in ("number", "binary")]
    other = [f for f in features or () if f not in names]
    if other:
        raise UsageError(f"'{other[0]}' holds {table.kind(other[0])} values, not numbers; chaff.associations takes every kind")
    still = [f for f in names if not _varies(table.column(f).values)]
    names = [f for f in names if f not in still]
    columns = [table.column(f).values for f in names]
    if with_target and (table.target.task == "regression" or len(table.target.classes) == 2):
        names, columns = [*names, table.target.name], [*columns, table.y]
    if len(names) < 2:
        raise DataError(f"{table.label} has {'only one column' if names else 'no column'} of numbers with any spread: nothing to compare")
    words = (
        f"without spread, so left out: {', '.join(still[:5])}" + (f" and {len(still) - 5} more" if len(still) > 5 else "") if still else ""
    )
    return Matrix(tuple(names), np.array(columns), words)


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
