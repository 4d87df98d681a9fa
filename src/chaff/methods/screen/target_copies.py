"""Columns that are the target in another form: the same numbers, a cut of it, what it was cut from, or itself shifted in time."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.methods.screen.facts import Facts
from chaff.table.table import Table

CHANCE = np.log(1e6)  # odds against an order this good by chance
SHIFTED = 0.99  # correlation with the target so many rows away
WALKS = 0.9  # correlation of the target with itself a row before, from which its steps are compared, not its values
MOST_ROWS_AWAY = 12
FEWEST_ROWS = 30
LEAST_PIECE = 0.05
ROWS_A_LEVEL = 5


@dataclass(frozen=True)
class Echo:
    """How a column repeats the target."""

    words: str
    blocked: bool = True


def echo_of(table: Table, facts: Facts) -> Echo | None:
    """None for a column that is not the target in another form."""
    values = facts.column.values
    present = ~np.isnan(values)
    if facts.distinct < 2 or facts.rows < FEWEST_ROWS or facts.kind in ("date", "text"):
        return None
    x, y = values[present], table.y[present]
    result = _of_number(x, y, facts) if table.target.task == "regression" else _of_classes(x, y, facts, table)
    return result or _in_time(table, facts)


def _of_number(x: Floats, y: Floats, facts: Facts) -> Echo | None:
    if facts.kind == "category":
        if facts.rows < ROWS_A_LEVEL * facts.distinct:
            return None  # levels put in order by so few rows each are in order by themselves: a name, not a scale
        means = np.bincount(x.astype(int), y) / np.maximum(np.bincount(x.astype(int)), 1)
        x = means[x.astype(int)]
    if not _in_step(x, y, facts.kind == "category") or _rare_piece(x):
        return None
    if facts.distinct >= 0.9 * np.unique(y).size:
        return Echo("orders the rows exactly as the target does: the target on another scale")
    return Echo(f"is the target cut into {facts.distinct} pieces")


def _rare_piece(x: Floats) -> bool:
    """A flag of a few extreme rows is no cut of the target."""
    _, counts = np.unique(x, return_counts=True)
    return bool(counts.size <= 3 and counts.min() < LEAST_PIECE * x.size)


def _in_step(x: Floats, y: Floats, free: bool) -> bool:
    """Whether x never turns back as y rises (or falls), and chance would not do that. `free`: x was put in order by y."""
    order = np.argsort(y, kind="stable")
    ascending = y[order]
    starts = np.flatnonzero(np.r_[True, np.diff(ascending) > 0])
    low, high = np.minimum.reduceat(x[order], starts), np.maximum.reduceat(x[order], starts)
    rising = bool((high[:-1] <= low[1:]).all())
    falling = bool((low[:-1] >= high[1:]).all())
    return (rising or falling) and _log_orders(x, free) > CHANCE


def _log_orders(x: Floats, free: bool) -> float:
    """Log of the number of orders that rows with these repeated values can stand in; less those of the values, if free."""
    from scipy.special import gammaln

    _, counts = np.unique(x, return_counts=True)
    return float(gammaln(x.size + 1) - gammaln(counts + 1).sum() - (gammaln(counts.size + 1) if free else 0.0))


def _of_classes(x: Floats, y: Floats, facts: Facts, table: Table) -> Echo | None:
    classes = np.unique(y)
    if classes.size < 2:
        return None
    if facts.kind == "number":
        ends = sorted((x[y == c].min(), x[y == c].max()) for c in classes)
        if all(a[1] < b[0] for a, b in itertools.pairwise(ends)) and _log_orders(y, True) > CHANCE:
            cuts = ", ".join(f"{(a[1] + b[0]) / 2:.4g}" for a, b in itertools.pairwise(ends))
            return Echo(f"thresholds on it ({cuts}) reproduce the classes exactly")
        return None
    if facts.rows < ROWS_A_LEVEL * facts.distinct:
        return None
    owners = np.zeros((int(x.max()) + 1, len(table.target.classes)))
    np.add.at(owners, (x.astype(int), y.astype(int)), 1)
    if ((owners > 0).sum(1) <= 1).all():
        same = facts.distinct == classes.size
        return Echo("equals the target under other names" if same else "determines the class: each level has one class")
    return None


def _in_time(table: Table, facts: Facts) -> Echo | None:
    """With an order: whether the column is the target some rows later, or earlier."""
    if table.order is None or table.target.task != "regression" or facts.kind != "number":
        return None
    order = np.argsort(table.order, kind="stable")
    x, y = facts.column.values[order], table.y[order]
    if _correlation(y[1:], y[:-1]) > WALKS:  # values of a walk are alike at any distance; its steps are not
        x, y = np.diff(x), np.diff(y)
    most = min(MOST_ROWS_AWAY, y.size // 4)
    result = {0: _correlation(x, y)}
    for away in range(1, most + 1):
        result[away] = _correlation(x[:-away], y[away:])
        result[-away] = _correlation(x[away:], y[:-away])
    best = max(result, key=lambda k: result[k])
    if best == 0 or result[best] < SHIFTED:
        return None
    if best > 0:
        return Echo(f"equals the target {_rows(best)} later: contains future values")
    return Echo(f"equals the target {_rows(-best)} earlier: usable only if known at prediction time", blocked=False)


def _rows(count: int) -> str:
    return f"{count} row{'s' * (count > 1)}"


def _correlation(a: Floats, b: Floats) -> float:
    both = ~np.isnan(a)
    a, b = a[both], b[both]
    if a.size < FEWEST_ROWS or a.std() == 0 or b.std() == 0:
        return 0.0
    return float(abs(np.corrcoef(a, b)[0, 1]))
