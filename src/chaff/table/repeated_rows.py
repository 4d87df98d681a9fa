"""Rows that repeat one another: they belong into one fold and on one side of the holdout, or a test row has been learned."""

from __future__ import annotations

from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.kernels.random_draws import mix_in
from chaff.table.source import Source
from chaff.table.table import Table

MANY = 10_000  # rows from which a look at hashes comes first
CHECK_AFTER = (1, 8, 64)  # columns
OWN_VALUES = 0.5  # a number column with so many distinct values a distinct row shows that equal rows are no coincidence


@dataclass(frozen=True)
class Repeated:
    """Which rows of a table are equal in target and features."""

    units: Ints | None
    """int64 (rows,): one number for rows that repeat one another; None where none does, or where that is coincidence."""
    count: int
    """Rows that repeat an earlier one."""
    coincidence: bool
    """Equal rows are to be expected: no number column has values fine enough to tell lots apart."""

    @property
    def words(self) -> str:
        if not self.count:
            return ""
        rows = f"{self.count:,} row{'s repeat another one' if self.count > 1 else ' repeats another one'}"
        if self.coincidence:
            return f"{rows}; with so few distinct values that is to be expected, so each counts for itself"
        return f"{rows}: equal rows stay in one fold and on one side of the holdout, and count once in tests"


def repeated_rows(table: Table) -> Repeated:
    """Equal rows of the view; target, features and missing cells compared."""
    if len(table) < MANY:
        return _compared(table)
    last = _last.get(table.source)
    if last is not None and last[0] is table.rows and last[1] is table.y_all and last[2] == table.features:
        return last[3]
    result = Repeated(None, 0, False) if _all_differ(table) else _compared(table)
    _last[table.source] = (table.rows, table.y_all, table.features, result)
    return result


_last: WeakKeyDictionary[Source, tuple[Ints, Floats, tuple[str, ...], Repeated]] = WeakKeyDictionary()


def _all_differ(table: Table) -> bool:
    """Whether one number a row, made of its cells, is another one in every row: then the rows differ. That of a few columns is enough
    for most tables, and no column is sorted."""
    hashes = np.zeros(len(table), np.uint64)
    mix_in(table.y_all.view(np.uint64), table.rows, hashes)
    for k, name in enumerate(table.features, 1):
        mix_in(table.whole_column(name).values.view(np.uint64), table.rows, hashes)
        if k in CHECK_AFTER or k == len(table.features):
            ascending = np.sort(hashes)
            if (ascending[1:] != ascending[:-1]).all():
                return True
    return False


def _compared(table: Table) -> Repeated:
    n = len(table)
    code = np.zeros(n, np.int64)
    finest = 0
    for name in (None, *table.features):
        values = table.y if name is None else table.column(name).values
        _, inverse = np.unique(values, return_inverse=True)
        if name is not None and table.kind(name) == "number":
            finest = max(finest, int(inverse.max(initial=0)) + 1)
        code = np.unique(code * (int(inverse.max(initial=0)) + 1) + inverse, return_inverse=True)[1].astype(np.int64)
        if int(code.max(initial=0)) + 1 == n:
            return Repeated(None, 0, False)
    distinct = int(code.max(initial=0)) + 1
    coincidence = finest < OWN_VALUES * distinct
    return Repeated(None if coincidence else code, n - distinct, coincidence)
