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
CODE_WORD = re.compile(r"[A-Za-z]{0,12}[-_ #]?\d{1,10}[A-Za-z]?")


def group_words(table: Table, facts: Facts) -> str:
    """Why a column looks like groups that nobody declared; empty where it does not.

    From 2 to 50 rows a value, values that are codes, and a target that differs by value beyond what neighbouring values of a
    number share: an amount differs too, but smoothly.
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
        coarse = _between(block[place], y)
        total = float(y @ y)
        share, left = whole - (coarse if number else 0.0), 1.0 - whole
        df, df_within = float(distinct.size - 1 - block[-1]), float(x.size - distinct.size)
        if total <= 0 or df < 1 or df_within < 1:
            continue
        f = (share / df) / (left / df_within) if left > 0 else float("inf")
        least = min(least, float(f_upper(np.array(f), np.array(df), np.array(df_within))))
    answer: float = min(least * targets.shape[1], 1.0)
    return answer


def _between(place: Ints, y: Floats) -> float:
    """Share of the variation between groups."""
    counts: Floats = np.bincount(place).astype(float)
    sums: Floats = np.bincount(place, y).astype(float)
    result = one_way(counts[None], sums[None], counts[None], np.array([y @ y]))
    return float(np.nan_to_num(result.eta_squared)[0])
