"""Cells that are not what they seem: codes and words that stand for missing, numbers written with their unit."""

from __future__ import annotations

import re

import numpy as np

from chaff.arrays import Floats
from chaff.table.kinds import Column

CODES = (-1.0, -9.0, -99.0, -999.0, -9999.0, 9.0, 99.0, 999.0, 9999.0, 99999.0)
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
FEWEST = 3  # one odd value may be a typing error; a code comes again
WITH_UNIT = re.compile(r"\s*[-+]?\d+(?:[.,]\d+)?\s*[A-Za-z%°µ][A-Za-z%°µ/²³.]{0,7}\s*")


def sentinels(column: Column, distinct: Floats, counts: np.ndarray) -> list[tuple[str, int]]:
    """(value, how often) of what looks like a code for missing."""
    if column.kind == "number":
        again = [(float(v), int(c)) for v, c in zip(distinct, counts, strict=True) if c >= FEWEST and (v in CODES or v == 0)]
        return [(f"{v:g}", c) for v, c in again if _stands_apart(v, distinct, counts)]
    if column.kind == "category":
        words = [(column.levels[int(k)], int(c)) for k, c in zip(distinct, counts, strict=True)]
        return [(w, c) for w, c in words if w.strip().lower() in WORDS]
    return []


def sentinel_words(column: Column, found: list[tuple[str, int]]) -> str:
    """`999 (12 times)`; empty when there are none."""
    mark = "" if column.kind == "number" else "'"
    return ", ".join(f"{mark}{v}{mark} ({c} times)" for v, c in found)


def _stands_apart(value: float, distinct: Floats, counts: np.ndarray) -> bool:
    """Whether a usual code, or zero, lies alone: further from all other values than their middle half is wide."""
    others = distinct != value
    rest, weight = distinct[others], counts[others]
    if rest.size < 5:
        return False
    below = np.cumsum(weight)
    first, third = (rest[int(np.searchsorted(below, share * below[-1]))] for share in (0.25, 0.75))
    if value == -1.0 and rest[0] >= 0.0:
        return True
    outside = value < rest[0] or value > rest[-1]
    gap = float(np.abs(rest - value).min())
    return bool(outside and gap > max(third - first, 0.0) and (value != 0.0 or rest[0] > 0.0 or rest[-1] < 0.0))


def units_example(column: Column, distinct: Floats) -> str:
    """One of its words, when most of a category's words are a number with a unit."""
    if column.kind not in ("category", "text") or distinct.size < 3:
        return ""
    words = [column.levels[int(k)] for k in distinct[:200]]
    like = [w for w in words if WITH_UNIT.fullmatch(w)]
    return like[0] if len(like) >= 0.8 * len(words) else ""
