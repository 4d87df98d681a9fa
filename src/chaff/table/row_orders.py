"""Orders of rows in which columns or targets are permuted: whole groups swap, a series in time is turned round."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats, Ints

ALIKE = 8  # groups, next to each other by size, that swap their targets


def between_groups(rows: int, groups: Ints | None, order: Floats | None, stream: np.random.Generator, away: float = 0.0) -> Ints:
    """Which row gives to each row, int64 (rows,): groups swap whole, a series is turned round.

    away : share of the rows by which a series is turned round at least.
    """
    if groups is not None:
        return _swapped(groups, order, stream)
    if order is None:
        return stream.permutation(rows)
    return _turned(np.argsort(order, kind="stable"), stream, away)


def within_groups(groups: Ints, order: Floats | None, stream: np.random.Generator) -> Ints:
    """Rows of each group give to one another; in time the group's series is turned round."""
    out = np.empty(groups.size, np.int64)
    first = stream.random(groups.size) if order is None else order
    for members in _members(groups, first):
        out[members] = stream.permutation(members) if order is None else _turned(members, stream)[members]
    return out


def _turned(in_order: Ints, stream: np.random.Generator, away: float = 0.0) -> Ints:
    """Who gives to whom when a series (places of its rows, in order) is turned round; by the largest place."""
    n = in_order.size
    least = int(np.ceil(away * n))
    by = int(stream.integers(least, n - least + 1)) if 0 < least < n / 2 else int(stream.integers(0, n))
    out = np.empty(int(in_order.max(initial=-1)) + 1, np.int64)
    out[in_order] = np.roll(in_order, by)
    return out


def _swapped(groups: Ints, order: Floats | None, stream: np.random.Generator) -> Ints:
    # Rows of each group side by side: in time where there is an order, in any order otherwise.
    members = _members(groups, stream.random(groups.size) if order is None else order)
    sizes = np.array([m.size for m in members])
    by_size = np.lexsort((stream.random(len(members)), sizes))
    out = np.empty(groups.size, np.int64)
    for subset in _strata(by_size):
        for taker, giver in zip(subset, stream.permutation(subset), strict=True):
            given = members[giver]
            start = int(stream.integers(given.size))
            out[members[taker]] = given[(start + np.arange(members[taker].size)) % given.size]
    return out


def _members(groups: Ints, within: Floats) -> list[Ints]:
    """Places of the rows of each group, in the order of `within`."""
    codes = np.unique(groups, return_inverse=True)[1]
    return np.split(np.lexsort((within, codes)), np.cumsum(np.bincount(codes))[:-1])


def _strata(by_size: Ints) -> list[Ints]:
    pieces = max(1, by_size.size // ALIKE)
    return [np.asarray(p) for p in np.array_split(by_size, pieces)]
