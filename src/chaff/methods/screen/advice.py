"""What could be made of a column; advice only, never a verdict. Said once as data, told as calls or as options."""

from __future__ import annotations

import shlex
from typing import Any, Literal, NamedTuple

from chaff.methods.screen.facts import Facts

FEW_WHOLE = 12  # whole numbers with so few values may be codes
MANY_PER_CODE = 20
Kind = Literal["", "date", "units", "text", "codes", "word codes", "absence", "levels"]


class Advice(NamedTuple):
    """What to do, and the words or numbers it is about."""

    kind: Kind
    values: tuple[str, ...] = ()


def advice_for(facts: Facts, absence_tells: bool) -> Advice:
    """The first piece of advice that applies."""
    if facts.kind == "date":
        return Advice("date")
    if facts.with_units:
        return Advice("units", (facts.with_units,))
    if facts.kind == "text":
        return Advice("text")
    if facts.sentinels:
        return Advice("codes" if facts.kind == "number" else "word codes", facts.sentinels)
    if absence_tells:
        return Advice("absence")
    return Advice("levels", (str(facts.distinct),)) if _code_like(facts) else Advice("")


def in_python(name: str, advice: Advice) -> str:
    """As a call; empty when there is nothing to say."""
    listed = ", ".join(repr(v) for v in advice.values)
    words = {
        "codes": f"if that means missing: open with missing_codes={{'{name}': [{', '.join(advice.values)}]}}; a real value stays as it is",
        "word codes": f"if that means missing: open with missing_codes={{'{name}': [{listed}]}}; if it means none, leave it a level",
        "absence": f"keep what its absence says: table.with_missing_flags(['{name}']), or with_fill where missing means zero or none",
        "levels": f"{listed.strip(chr(39))} whole numbers: if they are codes, not amounts, open with kinds={{'{name}': 'category'}}",
    }
    return words.get(advice.kind, _without_call(advice))


def as_options(name: str, row: Any) -> str:
    """As options of the command line, ready to paste."""
    advice = Advice(row["advice_kind"], tuple(row["advice_values"]))
    column = shlex.quote(name)
    codes = shlex.quote(f"{name}={','.join(advice.values)}")
    words = {
        "codes": f"--missing-code {codes}   if that means missing",
        "word codes": f"--missing-code {codes}   if that means missing",
        "absence": f"--missing-flag {column}   or --fill {shlex.quote(f'{name}=0')} where missing means zero or none",
        "levels": f"--kind {shlex.quote(f'{name}=category')}   if its {''.join(advice.values)} whole numbers are codes, not amounts",
    }
    return words.get(advice.kind, _without_call(advice))


def _without_call(advice: Advice) -> str:
    words = {
        "date": "a date: derive its age in days, the month or the weekday as a number or category",
        "units": f"strip the unit and read it as a number ('{''.join(advice.values)}')",
        "text": "free text: derive its length, or whether it has the words that matter",
    }
    return words.get(advice.kind, "")


def _code_like(facts: Facts) -> bool:
    few = 2 < facts.distinct <= FEW_WHOLE and facts.rows >= MANY_PER_CODE * facts.distinct
    return facts.kind == "number" and facts.column.whole and few
