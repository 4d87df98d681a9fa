"""New rows on the terms of a selection: opened, what of it is gone, how its columns have moved."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from chaff.decide.distributions import Tally
from chaff.decide.drift import Drifts, column_effect, drifts_of
from chaff.decide.selection import Selection
from chaff.decide.selection_parts import KeptPart
from chaff.errors import DataError
from chaff.table.kinds import Column, numbers_of
from chaff.table.large_tables import Limit, stored_source
from chaff.table.opening import open_on
from chaff.table.table import Table

FEWEST = 30  # new rows


def opened_new(selection: Selection, source: Any, limit: Limit) -> Table:
    """New rows on the terms of the selection; columns that are not there any more are no terms."""
    if isinstance(source, Table):
        table = source
    else:
        table = open_source(selection, source, limit)
    if table.target.name != selection.target.name:
        raise DataError(f"{table.label} has the target {table.target.name}, the selection is for {selection.target.name}")
    unknown = sorted(set(table.target.classes) - set(selection.target.classes)) if selection.target.classes else []
    if table.target.task != selection.target.task or unknown:
        what = f"classes unknown to the selection: {', '.join(unknown)}" if unknown else f"a target of another kind ({table.target.task})"
        raise DataError(f"{table.label} has {what}")
    if len(table) < FEWEST:
        raise DataError(f"{table.label} has {len(table)} rows with a target: too few; at least {FEWEST} are needed")
    return table


def open_source(selection: Selection, source: Any, limit: Limit) -> Table:
    """A file, a folder or a frame on the terms of the selection, on disk where it would take more than the memory that was said."""
    from chaff.table.files.sources import read_source

    terms = replace(selection.terms, dictionary=None)
    arrow, label = stored_source(source, terms.reading, limit) or read_source(source, terms.reading)
    there = set(arrow.column_names)
    made_from = terms.target
    if made_from not in there:
        raise DataError(f"{label} lacks the target '{made_from}': recheck needs rows with the target")
    roles = {r: getattr(terms, r) for r in ("groups", "order", "weights") if getattr(terms, r) not in (None, *there)}
    if roles:
        raise DataError(f"{label} lacks {', '.join(f'the {r} {n!r}' for r, n in roles.items())}")
    flags = tuple(f for f in terms.missing_flags if f in there)
    opened = open_on(source, replace(terms.only_with(there), missing_flags=()), limit=limit)
    gaps = [f for f in flags if opened.column(f).missing.any()]
    return opened.with_missing_flags(gaps) if gaps else opened


def gone_columns(selection: Selection, table: Table) -> dict[str, str]:
    """Kept columns that cannot be used any more → why."""
    out = {}
    for part in selection.kept:
        if part.name not in table.features:
            flag = any(d.name == part.name and d.made == "missing flag" for d in selection.derived)
            out[part.name] = (
                f"{part.name}: nothing is missing any more, so its indicator is constant" if flag else f"{part.name} is not there"
            )
            continue
        kind, words = table.kind(part.name), _of_words(table.column(part.name))
        if table.column(part.name).missing.all():
            out[part.name] = f"{part.name} is missing in every row"
        elif (part.kind == "number" and words) or (part.words and not table.column(part.name).levels):
            out[part.name] = f"{part.name} is now a {kind}; it was a {part.kind}"
    return out


def _of_words(column: Column) -> bool:
    """Whether any level is no number."""
    return bool(column.levels) and bool(np.isnan(numbers_of(column.levels)).any()) and set(column.levels) != {"False", "True"}


def drift_of_table(selection: Selection, table: Table, kept: Sequence[str]) -> Drifts:
    """The kept columns and the target against their spreads then."""
    parts = {k.name: k for k in selection.kept if k.name in kept and k.distribution is not None}
    target = selection.target
    if target.distribution is not None:
        kind: Any = "category" if target.classes else "number"
        parts[target.name] = KeptPart(name=target.name, kind=kind, levels=target.classes or None, distribution=target.distribution)
    tallies, effects = {}, {}
    for name, part in parts.items():
        assert part.distribution is not None
        is_target = name == target.name
        column = Column(name, "number", table.y, table.target.classes) if is_target else table.column(name)
        tallies[name] = tally = Tally(part.distribution)
        if column.levels:
            present = column.values[~column.missing].astype(int)
            counts = np.bincount(present, minlength=len(column.levels))
            words: dict[str | None, int] = {w: int(n) for w, n in zip(column.levels, counts, strict=True) if n}
            if column.missing.any():
                words[None] = int(column.missing.sum())
            tally.add_words(words)
            effects[name] = max(
                (column_effect((column.values == k).astype(float), table.units) for k in np.unique(present)[:8]), default=1.0
            )
        else:
            tally.add_numbers(column.values)
            effects[name] = column_effect(column.values, table.units)
    return drifts_of(parts, tallies, effects, target=target.name)
