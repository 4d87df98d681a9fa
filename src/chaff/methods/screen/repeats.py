"""Columns that are another column: cell by cell, up to scale and shift, or with the levels renamed."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.methods.screen.facts import Facts
from chaff.stats.tolerances import EXACT
from chaff.table.kinds import Column
from chaff.work import Work, task

ROWS_A_VALUE = 3
FEW_VALUES = 50  # a number with so few values may also be levels under other names


@dataclass(frozen=True)
class Repeat:
    """Which column another one is, and in what sense."""

    of: str
    how: str


def repeats(facts: Sequence[Facts], protected: Collection[str], work: Work) -> dict[str, Repeat]:
    """Loser → the column it repeats. The first by name stays, a protected one before all others."""
    able = [f for f in facts if f.rows > 1 and f.distinct > 1 and f.kind != "date"]
    order = sorted(able, key=lambda f: (f.name not in protected, f.name))
    result: dict[str, Repeat] = {}
    _same_levels(order, protected, result)
    _same_numbers([f for f in order if f.kind == "number" and f.name not in result], protected, result, work)
    return result


def _same_levels(facts: Sequence[Facts], protected: Collection[str], result: dict[str, Repeat]) -> None:
    seen: dict[bytes, Facts] = {}
    for f in facts:
        own = f.distinct * ROWS_A_VALUE > f.rows  # columns that hardly repeat a value are all each other's renaming
        if f.kind == "number" and (own or f.distinct > FEW_VALUES):
            continue
        first = seen.setdefault(_by_first_appearance(f.column), f)
        if first is not f and f.name not in protected and (not own or _equal(first.column, f.column)):
            result[f.name] = Repeat(first.name, "cell by cell" if _equal(first.column, f.column) else "with its values renamed")


def _by_first_appearance(column: Column) -> bytes:
    """The column with its values renumbered in the order in which they appear; -1 for missing."""
    present = ~column.missing
    codes = np.full(column.values.size, -1, np.int64)
    _, first, place = np.unique(column.values[present], return_index=True, return_inverse=True)
    codes[present] = np.argsort(np.argsort(first))[place]
    return codes.tobytes()


def _equal(a: Column, b: Column) -> bool:
    if a.levels or b.levels:
        return bool(a.levels and b.levels and (_words(a) == _words(b)).all())
    return bool(np.array_equal(a.values, b.values, equal_nan=True))


def _words(column: Column) -> np.ndarray:
    levels = np.array([*column.levels, ""], dtype=object)
    return np.asarray(levels[np.where(column.missing, len(column.levels), np.nan_to_num(column.values)).astype(int)])


def _same_numbers(facts: Sequence[Facts], protected: Collection[str], result: dict[str, Repeat], work: Work) -> None:
    """Standardised columns are laid along one random direction: only neighbours there can be the same."""
    if len(facts) < 2:
        return
    direction = work.stream("repeats").normal(size=facts[0].column.values.size)
    marks = np.array(work.each(task(_mark, direction), facts))
    by_mark = np.argsort(marks, kind="stable")
    tolerance = EXACT * np.sqrt(direction.size)
    for place, k in enumerate(by_mark.tolist()):
        for other in by_mark[place + 1 :].tolist():
            if marks[other] - marks[k] > tolerance:
                break
            winner, loser = sorted((k, other))
            a, b = facts[winner], facts[loser]
            if b.name in protected or b.name in result or a.name in result:
                continue
            how = _how(a.column.values, b.column.values)
            if how:
                result[b.name] = Repeat(a.name, how)


def _mark(direction: Floats, facts: Facts) -> float:
    """Where the standardised column lies along the direction, whichever way it points."""
    return abs(float(standardised(facts.column.values) @ direction))


def standardised(values: Floats) -> Floats:
    """Mean 0 and standard deviation 1 over the cells that are there, 0 where missing."""
    present = values[~np.isnan(values)]
    scale = present.std()
    return np.nan_to_num((values - present.mean()) / scale) if scale > 0 else np.zeros(values.size)


def _how(a: Floats, b: Floats) -> str:
    if not np.array_equal(np.isnan(a), np.isnan(b)):
        return ""
    if np.array_equal(a, b, equal_nan=True):
        return "cell by cell"
    za, zb = standardised(a), standardised(b)
    sign = 1.0 if float(za @ zb) > 0 else -1.0
    if np.abs(za - sign * zb).max() > EXACT:
        return ""
    return _equation(a, b)


def _equation(a: Any, b: Any) -> str:
    present = ~np.isnan(a)
    i, j = int(np.argmin(np.where(present, a, np.inf))), int(np.argmax(np.where(present, a, -np.inf)))
    slope = (b[j] - b[i]) / (a[j] - a[i])
    shift = b[i] - slope * a[i]
    if abs(shift) < EXACT * max(abs(b[i]), abs(b[j])):
        return f"times {slope:.6g}"
    return f"as {shift:.6g} {'+' if slope > 0 else '-'} {abs(slope):.6g} times it"
