"""Shuffled targets, following the data: weight moves with its target, whole groups where the target is theirs."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from chaff.table.table import Table


def shuffled(table: Table, stream: np.random.Generator) -> Table:
    """The same rows with the target dealt out anew.

    Where the target is constant inside every group, whole groups swap targets: rows of one group are not independent.
    """
    rows = table.rows
    order = _order(table, stream)
    y = table.y_all.copy()
    y[rows] = table.y[order]
    weights = table.weights_all
    if weights is not None and table.weights is not None:
        weights = weights.copy()
        weights[rows] = table.weights[order]
    return replace(table, y_all=y, weights_all=weights)


def _order(table: Table, stream: np.random.Generator) -> np.ndarray:
    """Which row gives its target to each row."""
    n = len(table)
    if table.groups is None:
        return stream.permutation(n)
    names, first, codes = np.unique(table.groups, return_index=True, return_inverse=True)
    if not (table.y == table.y[first][codes]).all():
        return stream.permutation(n)
    dealt = stream.permutation(names.size)
    return first[dealt][codes]
