"""What the rows have: duplicates, equal rows with unequal targets, class balance, outlying targets."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from chaff.arrays import Ints
from chaff.table.table import Table

if TYPE_CHECKING:
    import pandas as pd

FAR = 3.0  # quartile ranges outside the quartiles: far out (Tukey, 1977)
RARE_CLASS = 0.05
FEWEST_TARGETS, NEIGHBOURS = 20, 10  # distinct values, and those at the end that the last one is compared to
FEWEST_HEAPED, HEAPED = 5, 4.0


def row_checks(table: Table, features: Sequence[str]) -> pd.DataFrame:
    """One row a check: check, count (rows), share, words."""
    import pandas as pd

    of_target = {"regression": _outlying, "classification": _balance}.get(table.target.task)
    rows = [*_twins(table, features), *(of_target(table) if of_target is not None else [])]
    frame = pd.DataFrame(rows, columns=["check", "count", "words"])
    frame.insert(2, "share", frame["count"] / max(len(table), 1))
    return frame.set_index("check")


def _twins(table: Table, features: Sequence[str]) -> list[tuple[str, int, str]]:
    """Rows that are equal in every feature: with the same target, and with another one."""
    place, counts = _alike(table, features)
    if counts.max(initial=1) == 1:
        return [("equal rows", 0, "no two rows agree in every feature")]
    if not table.has_target:
        same = int((counts - 1).sum())
        return [("equal rows", same, f"{same:,} rows repeat another one in every feature")]
    y = table.y
    both = np.unique(np.stack([place.astype(float), y]), axis=1, return_counts=True)[1]
    same = int((both - 1).sum())
    low, high = np.full(counts.size, np.inf), np.full(counts.size, -np.inf)
    np.minimum.at(low, place, y)
    np.maximum.at(high, place, y)
    torn = counts[high > low].sum()
    return [
        ("equal rows", same, f"{same:,} rows repeat another one, target included"),
        (
            "contradictions",
            int(torn),
            f"{torn:,} rows agree in every feature with a row of another target: {_ceiling(table, place, counts)}",
        ),
    ]


def _alike(table: Table, features: Sequence[str]) -> tuple[Ints, Ints]:
    """(group of every row, rows in each group) of rows that agree in every feature."""
    place = np.zeros(len(table), np.int64)
    count = 1
    for name in features:
        codes = np.unique(table.column(name).values, return_inverse=True)[1]  # NaN counts as one value
        if count == len(table):
            break
        _, place = np.unique(place * (int(codes.max(initial=0)) + 1) + codes, return_inverse=True)
        count = int(place.max(initial=0)) + 1
    return place, np.bincount(place)


def _ceiling(table: Table, place: Ints, counts: Ints) -> str:
    """The best score that any model of these features could reach on these rows."""
    y = table.y
    if table.target.task == "regression":
        means = np.bincount(place, y) / counts
        left, whole = float(((y - means[place]) ** 2).sum()), float(((y - y.mean()) ** 2).sum())
        return f"no model could exceed R² {1 - left / whole:.3f} on them all" if whole > 0 else "the target is constant"
    table_of = np.zeros((counts.size, len(table.target.classes)))
    np.add.at(table_of, (place, y.astype(int)), 1)
    return f"no model could exceed accuracy {table_of.max(1).sum() / y.size:.3f} on them all"


def _outlying(table: Table) -> list[tuple[str, int, str]]:
    first, third = np.quantile(table.y, (0.25, 0.75))
    reach = FAR * (third - first)
    far = (table.y < first - reach) | (table.y > third + reach)
    unit = f" {table.target.unit}" if table.target.unit else ""
    words = f"{int(far.sum()):,} targets lie outside {first - reach:.4g} to {third + reach:.4g}{unit}"
    inside = f"all values within {table.y.min():.4g} to {table.y.max():.4g}{unit}"
    return [("target outliers", int(far.sum()), words if far.any() else inside), *_heaped(table)]


def _heaped(table: Table) -> list[tuple[str, int, str]]:
    """Targets that all stop at one value: a limit of the scale or of the instrument."""
    distinct, counts = np.unique(table.y, return_counts=True)
    if distinct.size < FEWEST_TARGETS:
        return []
    out = []
    for end, word, near in ((-1, "ceiling", slice(-1 - NEIGHBOURS, -1)), (0, "floor", slice(1, 1 + NEIGHBOURS))):
        count = int(counts[end])
        if count >= FEWEST_HEAPED and count >= HEAPED * counts[near].max():
            unit = f" {table.target.unit}" if table.target.unit else ""
            out.append((f"{word} in the target", count, f"{count:,} rows are exactly {distinct[end]:.6g}{unit}: censored?"))
    return out


def _balance(table: Table) -> list[tuple[str, int, str]]:
    counts = np.bincount(table.y.astype(int), minlength=len(table.target.classes))
    out = []
    for name, count in zip(table.target.classes, counts.tolist(), strict=True):
        share = count / len(table)
        rare = ": rare, so accuracy is uninformative; use log loss or ROC AUC" if share < RARE_CLASS else ""
        out.append((f"class {name}", count, f"{share:.1%} of the rows{rare}"))
    return out
