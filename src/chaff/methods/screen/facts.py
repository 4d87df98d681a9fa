"""Plain facts of one column, without the target: what is there, how often, how spread, and whether it is an id.

Cells that are not what they seem: codes and words that stand for missing, numbers written with their unit.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.table.kinds import Column
from chaff.table.table import Table

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
    if value == -1.0 and rest[0] >= 0.0 and gap > APART * spacing:  # where nothing else is negative, apart is enough
        return True
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


HASH = re.compile(r"[0-9a-fA-F]{8}[0-9a-fA-F-]{8,}")
FEWEST_ROWS = 20  # below this, having no ties says nothing
FEWEST_NUMBERS = 100  # the same for whole numbers, which may be amounts
RUNNING_GAP = 20  # times the rows: the range of numbers that were dealt out one after another, with repeats
BY_CHANCE = 0.001  # chance of no tie, under the numbers' own density, below which they were dealt out
LONG = 10_000  # from which a whole number that comes again and again, unrounded, is a name
ROUNDED = 0.3  # share of multiples of ten, from which numbers are amounts
TIES = 20.0  # times as many equal pairs as the density of the numbers allows


@dataclass(frozen=True)
class Facts:
    """Facts of one column over the rows in view."""

    name: str
    kind: str
    meaning: str
    unit: str
    rows: int
    missing_share: float
    distinct: int
    distinct_share: float
    top_value: str
    top_share: float
    low: float
    high: float
    middle: float
    spread: float
    relative_spread: float
    digits: float
    """Standard deviation in steps of the last digit that the column carries; few tell nothing apart."""
    quartile_range: float
    """Distance between the quartiles."""
    skew: float
    """Third central moment over the cube of the standard deviation."""
    outlying_share: float
    """Share beyond 1.5 quartile ranges outside the quartiles (Tukey, 1977)."""
    sentinel: str
    """Floats that look like a code for missing; empty when none does."""
    with_units: str
    """A word that is a number with a unit, where most are; empty otherwise."""
    id_why: str
    """Why its values look made to identify rows; empty when they do not."""
    held: Column | None
    """The column itself; None beside a table on disk, from which it is taken each time."""
    table: Table | None
    top_code: float
    sentinels: tuple[str, ...]
    """The values themselves."""

    def row(self) -> dict[str, Any]:
        return {k: v for k, v in self.__dict__.items() if k not in ("name", "held", "table", "top_code", "sentinels")}

    @property
    def column(self) -> Column:
        if self.table is not None:
            return self.table.column(self.name)
        assert self.held is not None
        return self.held

    @property
    def learnable(self) -> bool:
        return self.kind in ("number", "binary", "category") and self.distinct > 1

    def id_like(self, share: float | None) -> bool:
        return self.is_id(self.row(), share)

    @staticmethod
    def is_id(row: Any, share: float | None) -> bool:
        return share is not None and bool(row["id_why"]) and row["distinct_share"] >= share

    def names_rows(self, share: float | None) -> bool:
        """Whether these are whole numbers, nearly all different, that may name the rows; whether they predict tells."""
        many = share is not None and self.kind == "number" and self.rows >= FEWEST_NUMBERS and self.distinct_share >= share
        return many and self.column.whole  # the column itself last: of a table on disk it is read for that

    @property
    def rare(self) -> Flags:
        """Rows that do not hold the commonest value; above the median where hardly any value repeats."""
        values = self.column.values
        if self.top_share > 0.5:
            return np.asarray(~np.isnan(values) & (values != self.top_code))
        return np.asarray(values > self.middle)


def column_facts(table: Table, name: str) -> Facts:
    column = table.column(name)
    values = column.values[~column.missing]
    about = table.meaning(name)
    ascending = np.sort(values)  # one sort serves the distinct values, their counts and every quantile
    edges = np.flatnonzero(np.concatenate([[True], ascending[1:] != ascending[:-1]])) if values.size else np.empty(0, np.int64)
    distinct, counts = ascending[edges], np.diff(edges, append=values.size)
    top = int(np.argmax(counts)) if counts.size else 0
    number = column.kind in ("number", "date")
    spread = float(values.std()) if values.size and number else float("nan")
    middle = _quantile(ascending, 0.5) if values.size and number else float("nan")
    n = values.size
    low, first, third, high = (_quantile(ascending, q) for q in (0.0, 0.25, 0.75, 1.0)) if n and number else (float("nan"),) * 4
    skew, outlying = _shape(values, spread, first, third) if n and number else (float("nan"),) * 2
    codes, on_disk = sentinels(column, distinct, counts), table.source.spill is not None
    return Facts(
        name,
        column.kind,
        about.text,
        about.unit,
        n,
        1 - n / max(len(table), 1),
        distinct.size,
        distinct.size / n if n else float("nan"),
        _word(column, distinct, top),
        counts[top] / n if n else float("nan"),
        low,
        high,
        middle,
        spread,
        _relative_spread(values, distinct, spread, middle) if column.kind == "number" else float("nan"),
        _digits(distinct, spread) if column.kind == "number" else float("nan"),
        third - first,
        skew,
        outlying,
        sentinel_words(column, codes),
        units_example(column, distinct),
        _id_why(column, distinct),
        None if on_disk else column,
        table if on_disk else None,
        float(distinct[top]) if distinct.size else float("nan"),
        tuple(v for v, _ in codes),
    )


def _quantile(ascending: Floats, share: float) -> float:
    """Between the two nearest values, as a straight line."""
    place = share * (ascending.size - 1)
    k = int(place)
    low, high = float(ascending[k]), float(ascending[min(k + 1, ascending.size - 1)])
    t = place - k
    return low + (high - low) * t if t < 0.5 else high - (high - low) * (1.0 - t)


def _shape(values: Any, spread: float, first: float, third: float) -> tuple[float, float]:
    """(skew, share beyond 1.5 quartile ranges outside the quartiles)."""
    z = (values - values.mean()) / spread if spread > 0 else np.zeros(values.size)
    reach = 1.5 * (third - first)
    return float((z**3).mean()), float(((values < first - reach) | (values > third + reach)).mean())


def _word(column: Column, distinct: Any, top: int) -> str:
    if not distinct.size:
        return ""
    return column.levels[int(distinct[top])] if column.levels else f"{distinct[top]:.6g}"


def _relative_spread(values: Any, distinct: Any, spread: float, middle: float) -> float:
    """The plain coefficient of variation fails near a zero mean: the smallest step between values keeps it finite."""
    if distinct.size < 2:
        return 0.0
    step = float(np.diff(distinct).min())
    return spread / max(abs(float(values.mean())), abs(middle), step)


def _digits(distinct: Any, spread: float) -> float:
    if distinct.size < 2:
        return 0.0
    # A step cannot be smaller than what a float can tell apart at this size.
    step = max(float(np.diff(distinct).min()), 1e-14 * float(np.abs(distinct).max()))
    return spread / step


def nearly_id(facts: Facts) -> bool:
    """Whole numbers dealt out like ids, with repeats: most are unique, long and unrounded, and they lie close together or far
    more are equal than chance would have it."""
    values = facts.column.values[~facts.column.missing]
    if facts.kind != "number" or not facts.column.whole or not 0.5 <= facts.distinct_share < 0.98 or facts.rows < FEWEST_NUMBERS:
        return False
    if np.median(np.abs(values)) < LONG or (values % 10 == 0).mean() > ROUNDED:
        return False
    if np.abs(values).min() >= LONG and facts.high - facts.low <= RUNNING_GAP * facts.rows:
        return True
    distinct, counts = np.unique(values, return_counts=True)
    pairs = float((counts * (counts - 1.0) / 2).sum())
    return pairs >= TIES * max(expected_ties(distinct, values.size), 0.05)


def expected_ties(distinct: Floats, rows: int) -> float:
    """Pairs of equal rows there would be by chance, were whole numbers drawn with the density that these have."""
    bins = int(np.clip(np.sqrt(distinct.size), 1, 200))
    edges = np.unique(np.floor(np.quantile(distinct, np.linspace(0, 1, bins + 1))))
    if edges.size < 2:
        return float(rows * (rows - 1) / 2)
    counts, _ = np.histogram(distinct, edges)
    width = np.diff(edges)
    width[-1] += 1  # both ends of the last one are whole numbers in it
    return float(rows * (rows - 1) / 2 * ((counts / distinct.size) ** 2 / width).sum())


LONGEST_NAME = 3  # blanks in it, on average


def _id_why(column: Column, distinct: Any) -> str:
    """Made to identify, not merely without ties: a measurement with many digits has no ties either."""
    n = distinct.size
    if n < FEWEST_ROWS:
        return ""
    if column.kind in ("category", "text"):
        words = [column.levels[int(k)] for k in distinct[:200]]
        if units_example(column, distinct):
            return ""
        if sum(w.count(" ") for w in words) > LONGEST_NAME * len(words):
            return ""  # sentences
        return "a hash in every row" if all(HASH.fullmatch(w) for w in words) else "a different name in every row"
    if column.kind != "number" or not column.whole:
        return ""
    # Whole numbers drawn with this density would meet by chance; these were dealt out.
    if n >= FEWEST_NUMBERS and np.exp(-expected_ties(distinct, n)) < BY_CHANCE:
        return "a running number"
    if np.abs(distinct).min() >= 1e8:
        return "a long whole number in every row"
    return ""
