"""Travel: how a table goes to another process. Of a table on disk goes how it was opened, of any other what it holds."""

from __future__ import annotations

import copyreg
from collections import OrderedDict
from dataclasses import fields, replace
from typing import Any

import numpy as np

from chaff.arrays import Ints
from chaff.table.roles import build_table
from chaff.table.table import Table

KEPT = 4  # tables on disk whose target a worker keeps between its tasks
ROLES = ("y_all", "groups_all", "order_all", "weights_all")

_seen: OrderedDict[str, Table] = OrderedDict()


def _packed(table: Table) -> tuple[Any, ...]:
    """Nothing that is made of the table travels, and of rows a bit each."""
    given = {f.name: getattr(table, f.name) for f in fields(table)}
    if not table.as_opened or table.source.spill is None:
        return table_of, (given,)
    for name in ROLES:
        given.pop(name)
    return table_again, ({**given, "rows": _as_bits(table.rows, table.source.rows)},)


def _as_bits(rows: Ints, of: int) -> Any:
    """Rows in ascending order: the first one and how many, where they stand one after the other, else a bit for each there is."""
    if rows.size and int(rows[-1]) - int(rows[0]) + 1 == rows.size:
        return int(rows[0]), int(rows.size)
    flags = np.zeros(of, bool)
    flags[rows] = True
    return np.packbits(flags)


def _from_bits(given: Any, of: int) -> Ints:
    if isinstance(given, tuple):
        return np.arange(given[0], given[0] + given[1], dtype=np.int64)
    return np.flatnonzero(np.unpackbits(given, count=of))


def table_of(given: dict[str, Any]) -> Table:
    """A table from its fields."""
    return Table(**given)


def table_again(given: dict[str, Any]) -> Table:
    """A table on disk in another process: its target and roles are read there again, once."""
    source, terms = given["source"], given["terms"]
    key = f"{source.token} {terms!r}"
    if key not in _seen:
        _seen[key] = build_table(source, replace(terms, dictionary=None), 0)
        while len(_seen) > KEPT:
            _seen.popitem(last=False)
    whole = _seen[key]
    return Table(**{**given, **{n: getattr(whole, n) for n in ROLES}, "rows": _from_bits(given["rows"], source.rows)})


def lets_travel() -> None:
    """From here on tables are pickled this way."""
    copyreg.pickle(Table, _packed)
