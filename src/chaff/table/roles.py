"""Roles: what the columns of a source are for, checked and decoded into a Table.

A target made from a number by thresholds; what it was made from takes no part.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from chaff.errors import DataError, UnknownColumn, UsageError, nearest
from chaff.table.files.reading import Reading
from chaff.table.files.sources import read_path
from chaff.table.kinds import KINDS, Column, beyond_floats, decode, is_ordered, numbers_of
from chaff.table.source import Source
from chaff.table.table import Meaning, Table, Target
from chaff.table.terms import Terms


def with_made_target(arrow: Any, label: str, terms: Terms) -> tuple[Any, Terms, str]:
    """(the data with the target that thresholds make, terms that name it, a note)."""
    import pyarrow as pa

    column, above = terms.target, terms.target_above
    edges = _edges(above, terms.target_cuts or None)
    if column not in arrow.column_names:
        raise UnknownColumn(f"column '{column}' is not in {label}.{nearest(column, arrow.column_names)}")
    made = terms.target_name or (f"{column}_above_{edges[0]:g}" if above is not None else f"{column}_class")
    if made in arrow.column_names:
        raise UsageError(f"{label} has a column '{made}' already: pass target_name=… (--target-name) with another name for the target")
    values = decode(column, arrow.column(column), "number", terms.decimal).values
    named = _labels(terms.target_labels or None, edges, above is not None)
    place = np.searchsorted(edges, values, side="left")  # at the threshold itself: not above
    missing = np.isnan(values)
    if np.unique(place[~missing]).size < 2:
        raise DataError(
            f"every row falls into one class: '{column}' runs from {np.nanmin(values):g} to {np.nanmax(values):g}, "
            f"the threshold is {', '.join(f'{e:g}' for e in edges)}"
        )
    positive = terms.positive if terms.positive is not None else named[1] if len(named) == 2 else None
    ignore = tuple(dict.fromkeys([*terms.ignore, column]))
    metadata = arrow.schema.metadata
    words = pa.DictionaryArray.from_arrays(pa.array(place.astype(np.int32), mask=missing), pa.array(named, pa.string())).cast(pa.string())
    arrow = arrow.append_column(made, words).replace_schema_metadata(metadata)
    text = replace(terms, target=made, task="classification", positive=positive, ignore=ignore)
    return arrow, text, f"{made} was made from {column}, which is therefore ignored"


def _edges(above: float | None, cuts: Sequence[float] | None) -> list[float]:
    if (above is None) == (cuts is None):
        raise UsageError("say either above=… (one threshold) or cuts=[…] (several)")
    edges = [float(above)] if above is not None else [float(c) for c in cuts or ()]
    if not edges or sorted(set(edges)) != edges or not np.isfinite(edges).all():
        raise UsageError(f"thresholds must be finite and rising, not {edges}")
    return edges


def _labels(labels: Sequence[str] | None, edges: list[float], yes_no: bool) -> list[str]:
    if labels is not None:
        if len(labels) != len(edges) + 1 or len(set(labels)) != len(labels):
            raise UsageError(f"{len(edges) + 1} different labels are needed, from the lowest class on; {len(labels)} were given")
        return [str(n) for n in labels]
    if yes_no:
        return ["no", "yes"]
    middle = [f"{a:g} to {b:g}" for a, b in itertools.pairwise(edges)]
    return [f"to {edges[0]:g}", *middle, f"above {edges[-1]:g}"]


WIDEST = 1e140  # of a target: its squares, and their sums, have to fit
FEW_NUMBERS = 10  # whole-number targets with at most this many values are asked about in a note


def build_table(source: Source, terms: Terms, held: int) -> Table:
    """Check the roles, decode the target where one is named, and put the Table together. `held`: how many last rows came as the
    holdout."""
    meanings = read_dictionary(terms.dictionary)
    _check_named(source, terms)
    text, y, notes = Target("", "none"), np.zeros(source.rows), list[str]()
    if terms.target:
        text, y, notes = _read_target(source, terms, meanings.get(terms.target, Meaning()).unit)
    features = _features(source, terms)
    _check_words(source, features)
    weights = _read_weights(source, terms.weights)
    present = ~np.isnan(y)
    left_out = int((~present).sum())
    if left_out:
        words = ("rows have", "are") if left_out > 1 else ("row has", "is")
        notes.append(f"{left_out:,} {words[0]} no {terms.target} and {words[1]} left out")
    rows = np.flatnonzero(present)
    if terms.target:
        _check_target_varies(text, y[rows], terms.target)
    if held:
        notes.append(f"the last {held:,} rows came as a separate holdout")
    return Table(
        source=source,
        target=text,
        features=features,
        rows=rows,
        y_all=y,
        terms=terms,
        groups_all=_group_codes(source, terms.groups),
        order_all=_order_values(source, terms.order),
        weights_all=weights,
        meanings=meanings,
        notes=tuple(notes),
    )


def _features(source: Source, terms: Terms) -> tuple[str, ...]:
    members = {m for group in source.together.values() for m in group}
    taken = {terms.target, *terms.roles, *terms.ignore, *terms.protected, *members}
    features = tuple(n for n in (*source.arrow.column_names, *source.together) if n not in taken)
    if not features:
        raise DataError(f"{source.label} has no column left to be a feature: all are the target, ids or ignored")
    if not terms.features:
        return features
    wrong = [n for n in terms.features if n not in features]
    if wrong:
        raise UsageError(f"'{wrong[0]}' cannot be a feature: it is the target, has another role, is ignored, or is part of a category")
    return tuple(n for n in features if n in set(terms.features))


def _check_words(source: Source, features: Sequence[str]) -> None:
    """Every column of words that cannot be read, in one go: the user mends them together."""
    import pyarrow.types as pt

    def of_words(name: str) -> bool:
        kind = source.arrow.schema.field(name).type
        return bool(pt.is_string(kind) or pt.is_large_string(kind) or pt.is_dictionary(kind))

    wrong = []
    for name in features:
        if name in source.together or not of_words(name):
            continue
        try:
            source.column(name)
        except DataError as error:
            wrong.append(error)
    if len(wrong) == 1:
        raise wrong[0]
    if wrong:
        raise DataError(f"{len(wrong)} columns cannot be read:\n" + "\n".join(f"  {e}" for e in wrong))


def read_dictionary(dictionary: Mapping[str, Any] | str | Path | None) -> dict[str, Meaning]:
    """Column meanings from a mapping, or from a CSV file with the columns name, meaning, unit."""
    if dictionary is None:
        return {}
    if isinstance(dictionary, str | Path):
        sheet = read_path(Path(dictionary), Reading()).to_pylist()
        if sheet and "name" not in sheet[0]:
            raise DataError(f"{dictionary}: a column dictionary needs the columns name, meaning, unit")
        return {str(r["name"]): Meaning(str(r.get("meaning") or ""), str(r.get("unit") or "")) for r in sheet}
    if not isinstance(dictionary, Mapping):
        raise UsageError(f"dictionary must be a file or a dict of column to meaning, not {dictionary!r}")
    out = {}
    for name, value in dictionary.items():
        if isinstance(value, Meaning):
            out[name] = value
        elif isinstance(value, Mapping):
            out[name] = Meaning(str(value.get("meaning", "")), str(value.get("unit", "")))
        elif isinstance(value, str):
            out[name] = Meaning(value)
        elif isinstance(value, tuple | list) and len(value) == 2:
            out[name] = Meaning(str(value[0]), str(value[1]))
        else:
            raise UsageError(f"dictionary: '{name}' must be a text, (text, unit) or a dict with meaning and unit, not {value!r}")
    return out


def _check_named(source: Source, terms: Terms) -> None:
    names = list(source.arrow.column_names)
    requested = [
        *([terms.target] if terms.target else []),
        *terms.roles,
        *terms.ignore,
        *terms.protected,
        *source.kinds,
        *(m for g in source.together.values() for m in g),
        *(n for n in terms.features if n not in source.together),
    ]
    for name in requested:
        if name not in names:
            raise UnknownColumn(f"column '{name}' is not in {source.label}.{nearest(name, names)}")
    for name, kind in source.kinds.items():
        if kind not in KINDS and not is_ordered(kind):
            known = f"{', '.join(KINDS)}, ordered, or an order such as 'low < medium < high'"
            raise UsageError(f"kind of '{name}' must be one of {known}, not '{kind}'.{nearest(kind, KINDS)}")
    for name, members in source.together.items():
        if not members:
            raise UsageError(f"together '{name}' names no columns")
    for name in terms.missing_codes:
        if name not in names:
            raise UnknownColumn(f"column '{name}' (in missing_codes) is not in {source.label}.{nearest(name, names)}")
    for name in terms.costs:
        if name not in names and name not in source.together and name not in terms.panels:
            raise UnknownColumn(f"column '{name}' (in costs) is not in {source.label}.{nearest(name, [*names, *terms.panels])}")
        if not 0 <= terms.costs[name] < float("inf"):
            raise UsageError(f"cost of '{name}' must be 0 or more, not {terms.costs[name]}")
    _check_panels(source, terms, names)
    for name in source.together:
        if name in names:
            raise DataError(f"together '{name}': a column of that name exists already, choose another")
    for role in ("ids", "ignore", "groups", "weights", "order"):
        held = getattr(terms, role)
        if (terms.target and terms.target == held) or (not isinstance(held, str) and terms.target in (held or ())):
            raise UsageError(f"'{terms.target}' is the target and cannot also be under {role}")


def _check_panels(source: Source, terms: Terms, names: list[str]) -> None:
    held: dict[str, str] = {}
    for panel, members in terms.panels.items():
        if panel in names or panel in source.together:
            raise UsageError(f"panel '{panel}': a column of that name exists already, choose another")
        for name in map(str, members):
            if name not in names and name not in source.together:
                raise UnknownColumn(f"column '{name}' (in panel '{panel}') is not in {source.label}.{nearest(name, names)}")
            if name in held:
                raise UsageError(f"column '{name}' is in two panels, '{held[name]}' and '{panel}'")
            held[name] = panel


def _read_target(source: Source, terms: Terms, unit: str) -> tuple[Target, Any, list[str]]:
    name, task, positive = terms.target, terms.task, terms.positive
    column = source.column(name)
    notes: list[str] = []
    if task == "auto" and column.kind == "binary" and not column.whole and _are_numbers(column.levels):
        task = "regression"  # 2.5 and 3.5 are two measured values, not two classes
    numeric = column.kind == "number"
    if column.kind == "date":
        raise DataError(f"target '{name}' holds dates, which cannot be predicted: derive a number from it first")
    if task == "regression" and not numeric:
        if column.kind != "binary" or not _are_numbers(column.levels):
            raise DataError(f"target '{name}' holds words ({some_words(column.levels)}), so the task cannot be regression")
        column = Column(name, "number", np.array([*map(float, column.levels), np.nan])[_codes(column, 2)])
        numeric = True
    if numeric and task != "classification":
        present = np.unique(column.values[~np.isnan(column.values)])
        if column.whole and 2 < present.size <= FEW_NUMBERS:
            notes.append(
                f"target '{name}' has {present.size} distinct whole numbers and is read as a number; "
                "task='classification' reads them as classes"
            )
        if beyond_floats(source.raw(name)):
            notes.append(f"target '{name}' has whole numbers over 2^53, which are read to 16 digits: some of them become equal")
        return Target(name, "regression", unit=unit), column.values, notes
    if numeric and beyond_floats(source.raw(name)):
        cells = source.raw(name)
        there = np.asarray(cells.is_valid())
        distinct, place = np.unique(cells.drop_null().to_numpy(), return_inverse=True)
        codes = np.full(len(cells), np.nan)
        codes[there] = place
        column = Column(name, "category", codes, tuple(str(v) for v in distinct.tolist()))
    elif numeric:
        present = np.unique(column.values[~np.isnan(column.values)])
        codes = np.where(np.isnan(column.values), np.nan, np.searchsorted(present, np.nan_to_num(column.values)))
        levels = tuple(str(int(v)) if float(v).is_integer() else repr(float(v)) for v in present)
        column = Column(name, "category", codes, levels)
    used = np.unique(column.values[~np.isnan(column.values)]).astype(int)
    classes = tuple(column.levels[k] for k in used)
    place = np.full(len(column.levels) + 1, np.nan)
    place[used] = np.arange(used.size)
    y = place[_codes(column, len(column.levels))]
    return _classes(name, classes, positive, y, notes)


def _classes(name: str, classes: tuple[str, ...], positive: Any, y: Any, notes: list[str]) -> tuple[Target, Any, list[str]]:
    if positive is not None and len(classes) == 2:
        wanted = str(positive)
        if wanted not in classes:
            raise UsageError(f"positive class '{wanted}' is not in target '{name}'; its classes are {some_words(classes)}")
        if classes[0] == wanted:
            classes, y = (classes[1], classes[0]), 1.0 - y
    elif positive is not None:
        raise UsageError(f"target '{name}' has {len(classes)} classes, so no single one is positive")
    elif len(classes) == 2 and _first_is_positive(classes, y):
        classes, y = (classes[1], classes[0]), 1.0 - y
    return Target(name, "classification", classes, classes[1] if len(classes) == 2 else None), y, notes


# Words of which one says that something is so, or has happened.
POSITIVE = frozenset(
    {
        "1",
        "1.0",
        "yes",
        "y",
        "true",
        "t",
        "positive",
        "pos",
        "bad",
        "default",
        "defaulted",
        "fraud",
        "churn",
        "churned",
        "fail",
        "failed",
        "failure",
        "event",
        "case",
        "sick",
        "diseased",
        "died",
        "dead",
        "present",
    }
)


def _first_is_positive(classes: tuple[str, ...], y: Any) -> bool:
    """1 of 0 and 1, yes of yes and no; where the words do not tell, the rarer is what one looks for, of equals the later word."""
    says = [c.strip().lower() in POSITIVE for c in classes]
    return says[0] if says[0] != says[1] else bool((y == 0).sum() < (y == 1).sum())


def _codes(column: Column, missing: int) -> Any:
    return np.where(column.missing, missing, np.nan_to_num(column.values)).astype(int)


def _are_numbers(levels: Sequence[str]) -> bool:
    try:
        return bool([float(v) for v in levels])
    except ValueError:
        return False


def some_words(words: Sequence[str], most: int = 5) -> str:
    """The first few in quotes, and how many more there are."""
    shown = ", ".join(f"'{w}'" for w in words[:most])
    return shown + (f" and {len(words) - most} more" if len(words) > most else "")


def _check_target_varies(target: Target, y: Any, name: str) -> None:
    if y.size == 0:
        raise DataError(f"target '{name}' is missing in every row")
    if y.size == 1:
        raise DataError(f"only one row has a {name}: nothing can be learned from it")
    if target.task == "regression":
        if np.abs(y).max() > WIDEST:
            raise DataError(
                f"target '{name}' reaches {np.abs(y).max():.3g}, too large: its square overflows double precision. Divide it first"
            )
        if 0 < np.ptp(y) < 1 / WIDEST:
            raise DataError(f"target '{name}' varies by {np.ptp(y):.3g} only, too little: its square underflows. Multiply it first")
        if np.ptp(y) == 0:
            raise DataError(f"target '{name}' is {y[0]:g} in every row: there is nothing to predict")
        return
    if len(target.classes) < 2:
        raise DataError(f"target '{name}' has one class only, '{target.classes[0]}': there is nothing to predict")
    if len(target.classes) > max(20, y.size // 10):
        raise DataError(f"target '{name}' has {len(target.classes)} classes in {y.size:,} rows: is it an id or a text?")
    counts = np.bincount(y.astype(int), minlength=len(target.classes))
    single = [target.classes[k] for k in np.flatnonzero(counts == 1)]
    if single:
        many = len(single) > 1
        words = ("classes", "have a single row each") if many else ("class", "has a single row")
        raise DataError(
            f"{words[0]} {some_words(single)} of target '{name}' {words[1]}, which cannot be both learned and tested: "
            f"leave {'them' if many else 'it'} out or join {'them' if many else 'it'} to another class"
        )


def _read_weights(source: Source, name: str | None) -> Any:
    if not name:
        return None
    column = source.column(name)
    values = column.values
    if column.kind == "binary" and _are_numbers(column.levels):
        values = np.array([*map(float, column.levels), np.nan])[_codes(column, 2)]
    elif column.kind == "binary":
        raise DataError(f"weights '{name}' must be numbers, not words ({some_words(column.levels)})")
    elif column.kind != "number":
        raise DataError(f"weights '{name}' must be numbers, not {column.kind} values")
    if np.isnan(values).any() or (values < 0).any():
        raise DataError(f"weights '{name}' must be zero or more in every row and never missing")
    if not values.any():
        raise DataError(f"weights '{name}' are all zero")
    if not 1 / WIDEST < float(np.abs(values).max()) < WIDEST:
        raise DataError(f"weights '{name}' reach {np.abs(values).max():.3g}: bring them to a usual size first")
    return values


def _group_codes(source: Source, name: str | None) -> Any:
    import pyarrow.types as pt

    if not name:
        return None
    column = source.column(name)
    if column.missing.any():
        raise DataError(f"groups '{name}' is missing in {int(column.missing.sum()):,} rows: every row needs its group")
    if name in source.together:
        return np.unique(column.values, return_inverse=True)[1].astype(np.int64)
    cells = source.raw(name).combine_chunks()
    if not pt.is_dictionary(cells.type):
        cells = cells.dictionary_encode()
    # By what is written, not by the numbers it may be: two names must never become one. In an order of their own, so that the
    # order of the rows decides nothing.
    words = [str(w) for w in cells.dictionary.to_pylist()]
    place = np.empty(len(words), np.int64)
    place[np.lexsort((np.array(words, dtype=object), numbers_of(words)))] = np.arange(len(words))
    codes = place[cells.indices.to_numpy(zero_copy_only=False)]
    return np.unique(codes, return_inverse=True)[1].astype(np.int64)


def _order_values(source: Source, name: str | None) -> Any:
    if not name:
        return None
    column = source.column(name)
    if column.kind not in ("number", "date", "binary"):
        raise DataError(f"order '{name}' holds {column.kind} values: rows are ordered by a date or a number")
    if column.missing.any():
        raise DataError(f"order '{name}' is missing in {int(column.missing.sum()):,} rows: every row needs its place in time")
    cells = source.raw(name)
    if beyond_floats(cells):
        return np.unique(cells.to_numpy(), return_inverse=True)[1].astype(float)
    return column.values
