"""Shuffled targets that keep what the rows share: weight moves with its target, groups swap whole, a series stays a series."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.errors import DataError
from chaff.table.row_orders import between_groups, within_groups
from chaff.table.table import Table
from chaff.visible import listed
from chaff.work import Work

TRIES, MORE_TRIES = 20, 200  # shuffles drawn for each that is asked for, before those found are all there are


def shuffled(table: Table, stream: np.random.Generator, away: float = 0.0) -> Table:
    """The same rows with the target permuted.

    away : share of the rows by which a series is turned round at least. Above 0 for a limit that nothing may reach; for a rate it
    must be 0: were turns by little left out, the real series would be the largest too often, being alike to those.

    Groups swap whole with others of about their size, so that what their rows have in common stays together: the larger gives
    some of its targets, the smaller gives some twice. In time the series of targets is turned round, so that neighbours stay
    neighbours; with groups too, each group's own series is.
    """
    return with_target_order(table, between_groups(len(table), table.groups, table.order, stream, away))


def with_target_order(table: Table, order: Ints) -> Table:
    """The table with the target, and the weight that goes with it, of other rows: int64 (rows,), who gives to each."""
    rows = table.rows
    y = table.y_all.copy()
    y[rows] = table.y[order]
    weights = table.weights_all
    if weights is not None and table.weights is not None:
        weights = weights.copy()
        weights[rows] = table.weights[order]
    return replace(table, y_all=y, weights_all=weights)


@dataclass(frozen=True)
class TargetOrders:
    """Shuffles of a target that differ from it and from each other."""

    orders: tuple[Ints, ...]
    """int64 (rows,) each: which row gives its target to each row."""
    how: str
    """In words: `within groups`."""
    within: bool
    """Whether rows swap within groups only."""
    all_there_are: bool
    """Whether fewer were found than asked for, so that these are all."""


def target_orders(table: Table, count: int, work: Work, name: str = "deal") -> TargetOrders:
    """Distinct shuffles of the target that keep what the rows share.

    Within groups where the target varies in most of them (in time: each group's own series turned round), whole groups
    otherwise; a series in time is turned round. Named by number, so that the first fifty of a hundred are the fifty.

    Raises
    ------
    DataError
        When no shuffle changes the target.
    """
    within = varies_within(table)
    seen = {_print(table, np.arange(len(table)))}
    orders: list[Ints] = []
    for k in range(TRIES * count + MORE_TRIES):
        stream = work.stream(name, k)
        order = order_of_rows(table, stream, within)
        mark = _print(table, order)
        if mark not in seen:
            seen.add(mark)
            orders.append(order)
        if len(orders) == count:
            break
    if not orders:
        raise DataError(f"shuffling cannot change {table.target.name}: {_why_not(table)}")
    return TargetOrders(tuple(orders), _how(table, within), within, len(orders) < count)


def order_of_rows(table: Table, stream: np.random.Generator, within: bool = False) -> Ints:
    """Which row gives its cells to each row, so that columns lose the target and keep what their rows share: whole groups swap, a
    series is turned round; `within` groups where that is asked for."""
    if within and table.groups is not None:
        return within_groups(table.groups, table.order, stream)
    return between_groups(len(table), table.groups, table.order, stream)


def varies_within(table: Table) -> bool:
    """Whether rows of one group differ in the target, in more than half of the groups of two rows or more."""
    if table.groups is None:
        return False
    codes = np.unique(table.groups, return_inverse=True)[1]
    size = np.bincount(codes)
    return bool(2 * (_spread_within(table.y, codes)[size > 1] > 0).sum() > (size > 1).sum())


def constant_within(values: Floats, groups: Ints) -> bool:
    """Whether a column says the same in all rows of each group; missing is a value."""
    codes = np.unique(groups, return_inverse=True)[1]
    return bool((_spread_within(np.where(np.isnan(values), np.inf, values), codes) == 0).all())


NOT_JUDGED = "not tested"
BLIND = "constant within every group"


def names_where(table: Table, which: Flags, most: int = 4) -> str:
    """The first few of these features, and how many more."""
    names = [f for f, hit in zip(table.features, which, strict=True) if hit]
    return listed(names, most)


def blind_columns(table: Table) -> Flags:
    """Features that say the same in all rows of each group, so that shuffling within groups changes nothing; bool (features,)."""
    if table.groups is None:
        return np.zeros(len(table.features), bool)
    return np.array([constant_within(table.column(f).values, table.groups) for f in table.features], bool)


def _spread_within(values: Floats, codes: Ints) -> Floats:
    """Largest less smallest value of each group, infinite values alike."""
    ranks = np.unique(values, return_inverse=True)[1]
    count = int(codes.max(initial=-1)) + 1
    low, high = np.full(count, ranks.size), np.full(count, -1)
    np.minimum.at(low, codes, ranks)
    np.maximum.at(high, codes, ranks)
    answer: Floats = (high - low).astype(float)
    return answer


def _print(table: Table, order: Ints) -> bytes:
    digest = hashlib.blake2b(np.ascontiguousarray(table.y[order]).tobytes(), digest_size=16)
    if table.weights is not None:
        digest.update(np.ascontiguousarray(table.weights[order]).tobytes())
    return digest.digest()


def _how(table: Table, within: bool) -> str:
    if within:
        return "within groups" + (", each group's series turned round" if table.order is not None else "")
    if table.groups is not None:
        return "whole groups swap"
    return "rows" if table.order is None else "the series turned round"


def _why_not(table: Table) -> str:
    if np.unique(table.y).size < 2:
        return "it has one value"
    if table.groups is not None:
        return f"{np.unique(table.groups).size} groups, and their rows or the groups themselves have nothing to swap"
    return f"{len(table):,} rows have nothing to swap"
