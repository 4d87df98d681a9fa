"""Values that name something - a person, a farm, a row - and are neither amounts nor kinds: ids, ids with repeats, groups."""

from __future__ import annotations

import re

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.methods.screen.facts import Facts
from chaff.stats.group_differences import one_way
from chaff.stats.tail_probabilities import f_upper
from chaff.table.table import Table

FEWEST_GROUPS, FEWEST_A_GROUP, MOST_A_GROUP = 15, 2.0, 50.0
LEVEL = 1e-4
NEIGHBOURS = 8  # values next to each other that an amount would treat alike
ROUGH = 0.25  # of what differs between values, at least so much is no straight line through neighbours; of groups most is
NAMING = {"id", "ids", "uid", "uuid", "guid", "no", "nr", "num", "number", "key", "code", "account", "acct", "serial", "ref", "idx"}
CODE_WORD = re.compile(r"[A-Za-z]{0,12}[-_ #]?\d{1,10}[A-Za-z]?")


def group_words(table: Table, facts: Facts) -> str:
    """Why a column looks like groups that nobody declared; empty where it does not.

    From 2 to 50 rows a value, values that are codes, and a target that differs by value beyond a straight line through
    neighbouring values of a number: an amount differs too, but smoothly.
    """
    if table.groups is not None or facts.distinct < FEWEST_GROUPS or facts.kind not in ("number", "category", "text"):
        return ""
    if not FEWEST_A_GROUP <= facts.rows / facts.distinct <= MOST_A_GROUP:
        return ""
    if facts.kind == "number" and not facts.column.whole:
        return ""
    if facts.kind != "number" and not _codes(facts):
        return ""
    values = facts.column.values
    present = ~np.isnan(values)
    p = _p_within(values[present], table.targets[present], facts.kind == "number")
    if not p < LEVEL:
        return ""
    a_value = facts.rows / facts.distinct
    return f"{facts.distinct:,} values of about {a_value:.0f} rows; mean {table.target.name} differs between them."


def named_as_id(name: str) -> bool:
    """Whether a word of the name says that the values name something: `lot_no`, `CustomerID`, `account key`."""
    words = re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+", name)
    return any(w.lower() in NAMING for w in words)


def _codes(facts: Facts) -> bool:
    words = facts.column.levels[:200]
    return bool(words) and sum(bool(CODE_WORD.fullmatch(w)) for w in words) >= 0.9 * len(words)


def _p_within(x: Floats, targets: Floats, number: bool) -> float:
    """p of the target being the same for all values (of a number: for neighbouring values), Bonferroni over its columns."""
    distinct, place = np.unique(x, return_inverse=True)
    block = np.arange(distinct.size) // NEIGHBOURS if number else np.zeros(distinct.size, np.int64)
    least = 1.0
    for t in range(targets.shape[1]):
        y = targets[:, t] - targets[:, t].mean()
        whole = _between(place, y)
        total = float(y @ y)
        smooth, spent = _smooth(x, block[place], y) if number else (0.0, 1.0)
        share, left = whole - smooth, 1.0 - whole
        df, df_within = float(distinct.size) - spent, float(x.size - distinct.size)
        if total <= 0 or df < 1 or df_within < 1 or share < ROUGH * whole:
            continue
        f = (share / df) / (left / df_within) if left > 0 else float("inf")
        least = min(least, float(f_upper(np.array(f), np.array(df), np.array(df_within))))
    answer: float = min(least * targets.shape[1], 1.0)
    return answer


def _smooth(x: Floats, block: Ints, y: Floats) -> tuple[float, float]:
    """(share of the variation that a straight line in each block of neighbouring values explains, its degrees of freedom)."""
    rows = np.bincount(block).astype(float)
    x = x - (np.bincount(block, x) / rows)[block]
    level = np.bincount(block, y) / rows
    xx, xy = np.bincount(block, x * x), np.bincount(block, x * (y - level[block]))
    slope = np.divide(xy, xx, out=np.zeros_like(xy), where=xx > 0)
    fitted = level[block] + slope[block] * x
    return float(fitted @ fitted / (y @ y)) if y @ y > 0 else 0.0, float(rows.size + (xx > 0).sum())


def _between(place: Ints, y: Floats) -> float:
    """Share of the variation between groups."""
    counts: Floats = np.bincount(place).astype(float)
    sums: Floats = np.bincount(place, y).astype(float)
    result = one_way(counts[None], sums[None], counts[None], np.array([y @ y]))
    return float(np.nan_to_num(result.eta_squared)[0])
