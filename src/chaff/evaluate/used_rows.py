"""A table cut down to the rows that some folds use, with the folds on those rows."""

from __future__ import annotations

import numpy as np

from chaff.folds import Folds
from chaff.table.table import Table


def used_rows(table: Table, folds: Folds) -> tuple[Table, Folds]:
    """What a search that is rerun inside a training fold may see, as a table of its own; the table itself where all rows are used."""
    used = np.zeros(len(table), bool)
    for split in folds.splits:
        for rows in folds.rows(split):
            used[rows] = True
    if used.all():
        return table, folds
    rows = np.flatnonzero(used)
    return table.take(rows), Folds(tuple(part[rows] for part in folds.parts), folds.splits, folds.how, folds.ordered)
