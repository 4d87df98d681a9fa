"""Shuffled targets that keep what the rows share: weight moves with its target, groups swap whole, a series stays a series."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.table.table import Table

AWAY = 0.1  # of the rows: a series is turned round by at least so much
ALIKE = 8  # groups, next to each other by size, that swap their targets


def shuffled(table: Table, stream: np.random.Generator) -> Table:
    """The same rows with the target dealt out anew.

    Groups swap whole with others of about their size, so that what their rows have in common stays together: the larger gives
    some of its targets, the smaller gives some twice. In time the series of targets is turned round, so that neighbours stay
    neighbours; with groups too, each group's own series is.
    """
    rows = table.rows
    dealt = _dealt(table, stream)
    y = table.y_all.copy()
    y[rows] = table.y[dealt]
    weights = table.weights_all
    if weights is not None and table.weights is not None:
        weights = weights.copy()
        weights[rows] = table.weights[dealt]
    return replace(table, y_all=y, weights_all=weights)


def _dealt(table: Table, stream: np.random.Generator) -> Ints:
    """Which row gives its target to each row."""
    n = len(table)
    if table.groups is not None:
        return _between_groups(table.groups, table.order, stream)
    if table.order is None:
        return stream.permutation(n)
    return _turned(np.argsort(table.order, kind="stable"), stream)


def _turned(in_order: Ints, stream: np.random.Generator) -> Ints:
    n = in_order.size
    least = int(np.ceil(AWAY * n))
    by = int(stream.integers(least, n - least + 1)) if n > 2 * least else int(stream.integers(0, n))
    out = np.empty(n, np.int64)
    out[in_order] = np.roll(in_order, by)
    return out


def _between_groups(groups: Ints, order: Floats | None, stream: np.random.Generator) -> Ints:
    codes = np.unique(groups, return_inverse=True)[1]
    count = int(codes.max(initial=-1)) + 1
    # Rows of each group side by side: in time where there is an order, in any order otherwise.
    within = stream.random(codes.size) if order is None else order
    sorted_rows = np.lexsort((within, codes))
    members = np.split(sorted_rows, np.cumsum(np.bincount(codes, minlength=count))[:-1])
    sizes = np.array([m.size for m in members])
    by_size = np.lexsort((stream.random(count), sizes))
    out = np.empty(codes.size, np.int64)
    for some in _strata(by_size):
        for taker, giver in zip(some, stream.permutation(some), strict=True):
            given = members[giver]
            start = int(stream.integers(given.size))
            out[members[taker]] = given[(start + np.arange(members[taker].size)) % given.size]
    return out


def _strata(by_size: Ints) -> list[Ints]:
    pieces = max(1, by_size.size // ALIKE)
    return [np.asarray(p) for p in np.array_split(by_size, pieces)]
