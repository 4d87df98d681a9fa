"""What could be made of a column, in one sentence; advice only, never a verdict."""

from __future__ import annotations

from typing import TYPE_CHECKING

from chaff.methods.screen.facts import Facts

if TYPE_CHECKING:
    import pandas as pd

FEW_WHOLE = 12  # whole numbers with so few values may be codes
MANY_PER_CODE = 20


def advice(facts: Facts, row: pd.Series) -> str:
    """Empty when there is nothing to say."""
    name = facts.name
    if facts.kind == "date":
        return "a date: derive its age in days, the month or the weekday as a number or category"
    if facts.with_units:
        return f"strip the unit and read it as a number ('{facts.with_units}')"
    if facts.kind == "text":
        return "free text: derive its length, or whether it has the words that matter"
    if facts.sentinel:
        return f"if that means missing, open with missing=[…] or clean it; if it means none, say so: table.with_fill({{'{name}': …}})"
    if row["absence_tells"]:
        return f"keep what its absence says: table.with_missing_flags(['{name}']), or with_fill where missing means zero or none"
    if _code_like(facts):
        return f"{facts.distinct} whole numbers: if they are codes, not amounts, open with kinds={{'{name}': 'category'}}"
    return ""


def _code_like(facts: Facts) -> bool:
    few = 2 < facts.distinct <= FEW_WHOLE and facts.rows >= MANY_PER_CODE * facts.distinct
    return facts.kind == "number" and facts.column.whole and few
