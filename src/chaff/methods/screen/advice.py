"""What could be made of a column; advice only, never a verdict. Said once as data, told as calls or as options."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from typing import Any, Literal, NamedTuple

import numpy as np

from chaff.arrays import Floats
from chaff.methods.screen.facts import Facts
from chaff.stats.group_differences import curve
from chaff.table.kinds import ordered_values
from chaff.table.table import Table

FEW_WHOLE = 12  # whole numbers with so few values may be codes
MANY_PER_CODE = 20
STRONG_P = 1e-3
FOLDED, NAMED = 8, 2
FOLDED_WORDS = {
    "date": "numbers from dates (also year, hour, since:COLUMN)",
    "codes": "where that means missing",
    "word codes": "where that means missing",
    "absence": "or --fill NAME=0 where missing means zero or none",
    "levels": "where their whole numbers are codes, not amounts",
    "ordered": "words in an order, read as one number",
}
Kind = Literal["", "date", "units", "text", "codes", "word codes", "absence", "levels", "ordered"]


class Advice(NamedTuple):
    """What to do, and the words or numbers it is about."""

    kind: Kind
    values: tuple[str, ...] = ()


def advice_for(facts: Facts, absence_tells: bool, table: Table) -> Advice:
    """The first piece of advice that applies."""
    if facts.kind == "date":
        return Advice("" if facts.name in table.terms.derive else "date")
    if facts.with_units:
        return Advice("units", (facts.with_units,))
    if facts.kind == "text":
        return Advice("text")
    if facts.sentinels:
        return Advice("codes" if facts.kind == "number" else "word codes", facts.sentinels)
    if absence_tells:
        return Advice("absence")
    if facts.kind == "category" and ordered_values(facts.column.levels) is not None:
        return Advice("ordered", facts.column.levels[:2])
    return Advice("levels", (str(facts.distinct),)) if _code_like(facts) and _bends(facts, table) else Advice("")


def in_python(name: str, advice: Advice) -> str:
    """As a call; empty when there is nothing to say."""
    listed = ", ".join(repr(v) for v in advice.values)
    words = {
        "date": f"a date: open with derive={{'{name}': ['age', 'month', 'weekday']}} for numbers from it",
        "codes": f"if that means missing: open with missing_codes={{'{name}': [{', '.join(advice.values)}]}}; a real value stays as it is",
        "word codes": f"if that means missing: open with missing_codes={{'{name}': [{listed}]}}; if it means none, leave it a level",
        "absence": (
            f"keep the missingness as a feature: table.with_missing_flags(['{name}']), or with_fill where missing means zero or none"
        ),
        "ordered": f"words in an order ({', '.join(advice.values)}, …): open with kinds={{'{name}': 'ordered'}} to read them as one number",
        "levels": f"{listed.strip(chr(39))} whole numbers: if they are codes, not amounts, open with kinds={{'{name}': 'category'}}",
    }
    return words.get(advice.kind, _without_call(advice))


def folded_options(rows: Sequence[tuple[str, Any]]) -> list[list[str]]:
    """[features, options of the command line]: the same advice for several columns in one line."""
    kinds: dict[str, list[tuple[str, Any]]] = {}
    for name, row in rows:
        kinds.setdefault(row["advice_kind"], []).append((name, row))
    out = []
    for subset in kinds.values():
        given = [as_options(name, row).partition("   ") for name, row in subset]
        if given[0][2]:
            shown = " ".join(option for option, _, _ in given[:FOLDED])
            more = f" (and {len(given) - FOLDED} more the same way)" if len(given) > FOLDED else ""
            advice = (
                f"{shown}{more}   {given[0][2]}"
                if len(given) == 1
                else f"{shown}{more}   {FOLDED_WORDS.get(subset[0][1]['advice_kind'], '')}"
            )
        else:
            advice = given[0][0]
        names = ", ".join(name for name, _ in subset[:NAMED]) + (f" and {len(subset) - NAMED} more" if len(subset) > NAMED else "")
        out.append([names, advice.rstrip()])
    return out


def as_options(name: str, row: Any) -> str:
    """As options of the command line, ready to paste."""
    advice = Advice(row["advice_kind"], tuple(row["advice_values"]))
    column = shlex.quote(name)
    codes = shlex.quote(f"{name}={','.join(advice.values)}")
    words = {
        "date": f"--derive {column}=age,month,weekday   numbers from a date (also year, hour, since:COLUMN)",
        "codes": f"--missing-code {codes}   if that means missing",
        "word codes": f"--missing-code {codes}   if that means missing",
        "absence": f"--missing-flag {column}   or --fill {shlex.quote(f'{name}=0')} where missing means zero or none",
        "ordered": f"--kind {shlex.quote(f'{name}=ordered')}   words in an order ({', '.join(advice.values)}, …) read as one number",
        "levels": f"--kind {shlex.quote(f'{name}=category')}   if its {''.join(advice.values)} whole numbers are codes, not amounts",
    }
    return words.get(advice.kind, _without_call(advice))


def _without_call(advice: Advice) -> str:
    words = {
        "units": f"strip the unit and read it as a number ('{''.join(advice.values)}')",
        "text": "free text: derive its length, or whether it has the words that matter",
    }
    return words.get(advice.kind, "")


def _bends(facts: Facts, table: Table) -> bool:
    """Whether the target goes up and down with the numbers as codes would have it: only then are they worth asking about."""
    present = ~facts.column.missing
    _, place, counts = np.unique(facts.column.values[present], return_inverse=True, return_counts=True)
    weights: Floats = counts[None].astype(float)
    for target in table.targets[present].T:
        y = target - target.mean()
        sums: Floats = np.bincount(place, y)[None].astype(float)
        xs: Floats = np.bincount(place, facts.column.values[present] - facts.middle)[None].astype(float)
        if float(curve(weights, xs, sums, np.array([y @ y])).p[0]) < STRONG_P:
            return True
    return False


def _code_like(facts: Facts) -> bool:
    few = 2 < facts.distinct <= FEW_WHOLE and facts.rows >= MANY_PER_CODE * facts.distinct
    return facts.kind == "number" and facts.column.whole and few
