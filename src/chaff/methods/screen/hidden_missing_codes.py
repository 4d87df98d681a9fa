"""Cells that are not what they seem: codes and words that stand for missing, numbers written with their unit."""

from __future__ import annotations

import re

import numpy as np

from chaff.arrays import Floats
from chaff.table.kinds import Column

NINES = re.compile(r"-?9+|-1")
WORDS = frozenset(
    {
        "unknown",
        "n/a",
        "na",
        "n.a.",
        "none",
        "null",
        "nil",
        "nan",
        "missing",
        "not known",
        "not available",
        "not measured",
        "tbd",
        "?",
        "-",
        "--",
        ".",
        "blank",
    }
)
EDGE = 0.02  # of the other rows may lie beyond a code
NEIGHBOURS = 10  # values at the edge, to which a code is compared
APART, FAR_FROM_ZERO = 3.0, 5.0  # times their distance from one another
TWICE, OFTEN = 2.0, 5.0  # times as often as the commonest of them
FEWEST = 3  # one odd value may be a typing error; a code comes again
WITH_UNIT = re.compile(r"\s*[-+]?\d+(?:[.,]\d+)?\s*[A-Za-z%°µ][A-Za-z%°µ/²³.]{0,7}\s*")


def sentinels(column: Column, distinct: Floats, counts: np.ndarray) -> list[tuple[str, int]]:
    """(value, how often) of what looks like a code for missing."""
    if column.kind == "number":
        again = [(float(v), int(c)) for v, c in zip(distinct, counts, strict=True) if c >= FEWEST and _usual(float(v))]
        return [(f"{v:.15g}", c) for v, c in again if _stands_apart(v, c, distinct, counts)]
    if column.kind == "category":
        words = [(column.levels[int(k)], int(c)) for k, c in zip(distinct, counts, strict=True)]
        return [(w, c) for w, c in words if w.strip().lower() in WORDS]
    return []


def sentinel_words(column: Column, result: list[tuple[str, int]]) -> str:
    """`999 (12 times)`; empty when there are none."""
    mark = "" if column.kind == "number" else "'"
    return ", ".join(f"{mark}{v}{mark} ({c} times)" for v, c in result)


def _usual(value: float) -> bool:
    """Nines, minus one, and zero: what people write where there is nothing."""
    return value == 0 or (value.is_integer() and bool(NINES.fullmatch(f"{value:.0f}")))


def _stands_apart(value: float, count: int, distinct: Floats, counts: np.ndarray) -> bool:
    """Whether a usual code lies at or beyond the edge of the other values, apart from them or far more often than they come.

    A real zero is where its column begins: next to it are values as close to it as they are to one another.
    """
    others = distinct != value
    rest, weight = distinct[others], counts[others]
    if rest.size < 5:
        return False
    if value == -1.0 and rest[0] >= 0.0:
        return True
    share = weight / weight.sum()
    if min(share[rest < value].sum(), share[rest > value].sum()) > EDGE:
        return False
    low = share[rest < value].sum() <= share[rest > value].sum()
    near = rest[:NEIGHBOURS] if low else rest[-NEIGHBOURS:]
    gap = float(np.abs(near - value).min())
    spacing = float(np.median(np.diff(near))) if near.size > 1 else 0.0
    even = float(np.ptp(near)) / (near.size - 1) if near.size > 1 else 0.0
    usual = float(np.max(weight[np.isin(rest, near)]))
    often = count >= OFTEN * usual
    if value == 0.0:
        return bool((rest > 0).all() or (rest < 0).all()) and gap > FAR_FROM_ZERO * even
    apart = gap > APART * spacing
    return bool(often or (apart and count >= TWICE * usual) or (apart and gap > _middle_half(rest, weight)))


def _middle_half(rest: Floats, weight: np.ndarray) -> float:
    below = np.cumsum(weight)
    first, third = (rest[int(np.searchsorted(below, share * below[-1]))] for share in (0.25, 0.75))
    return float(third - first)


def units_example(column: Column, distinct: Floats) -> str:
    """One of its words, when most of a category's words are a number with a unit."""
    if column.kind not in ("category", "text") or distinct.size < 3:
        return ""
    words = [column.levels[int(k)] for k in distinct[:200]]
    like = [w for w in words if WITH_UNIT.fullmatch(w)]
    return like[0] if len(like) >= 0.8 * len(words) else ""
