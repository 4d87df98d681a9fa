"""The edge where data comes in: every argument is checked here, before any work."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from chaff.errors import DataError, UnknownColumn, UsageError, nearest
from chaff.table.kinds import KINDS, Column
from chaff.table.sources import Reading, read_path, read_source
from chaff.table.table import Meaning, Source, Table, Target

FEW_NUMBERS = 10  # whole-number targets with at most this many values are asked about in a note


def open_table(
    source: Any,
    target: str,
    *,
    task: str = "auto",
    positive: Any = None,
    ids: str | Sequence[str] = (),
    ignore: str | Sequence[str] = (),
    groups: str | None = None,
    order: str | None = None,
    weights: str | None = None,
    kinds: Mapping[str, str] | None = None,
    together: Mapping[str, Sequence[str]] | None = None,
    costs: Mapping[str, float] | None = None,
    dictionary: Mapping[str, Any] | str | Path | None = None,
    missing: str | Sequence[str] = (),
    infinite: str = "error",
    delimiter: str | None = None,
    decimal: str | None = None,
    encoding: str | None = None,
    missing_flags: str | Sequence[str] = (),
    fill: Mapping[str, Any] | None = None,
    holdout: Any = None,
) -> Table:
    """Open a table: say what is to be predicted and what the columns are for.

    Parameters
    ----------
    source : path, pandas frame, Arrow table, or any object with the Arrow PyCapsule interface
        Files by their ending: .csv, .tsv, .txt (also .gz, .bz2, .zst), .parquet, .feather, .arrow, .jsonl.
    target : str
        Column to predict. Rows where it is missing are left out, and counted in `table.notes`.
    task : "auto", "regression" or "classification"
        "auto": words, yes/no and two-valued columns are classes, other numbers are numbers.
    positive : optional
        With two classes, the one that counts as positive; the later one in sorted order when left out. Always named.
    ids, ignore : str or list of str
        Columns that identify rows, and columns that take no part. Neither is ever a feature.
    groups, order, weights : str, optional
        Rows of one group stay together in every split; rows are split by time along `order` (order beats groups);
        weights are numbers, zero or more.
    kinds : dict, optional
        Column to kind ("number", "binary", "category", "date", "text") where the inferred one is wrong.
    together : dict, optional
        New name to the 0/1 columns that were made beforehand from one category: they are one feature from here on.
    costs : dict, optional
        What measuring a feature costs, any unit; among equals the dearer goes.
    dictionary : dict or path, optional
        Column to meaning: text, ``(text, unit)`` or ``{"meaning": …, "unit": …}``; or a CSV file with the columns name,
        meaning, unit.
    missing : str or list of str
        Words that stand for a missing cell. Without it only an empty cell is missing: "NA" and "None" are levels.
    infinite : "error" or "missing"
        What to do with infinite numbers.
    delimiter, decimal, encoding : str, optional
        How a CSV file is written; found out when left out.
    missing_flags : str or list of str
        Columns that get a feature beside them which says whether they are missing; see `Table.with_missing_flags`.
    fill : dict, optional
        Column to the value in place of a missing cell; see `Table.with_fill`.
    holdout : as `source`, optional
        Separate rows with the same columns, to be used as the holdout (see `chaff.select`).

    Returns
    -------
    Table

    Raises
    ------
    DataError, UnknownColumn, UsageError

    Examples
    --------
    >>> import pandas as pd, chaff
    >>> lots = pd.DataFrame({"protein_pct": [11.2, 12.9, 10.4], "loaf_volume": [390.5, 431.0, 377.0]})
    >>> print(chaff.open_table(lots, target="loaf_volume"))
    the frame · 3 rows · 1 feature (1 number) · target loaf_volume
    """
    kinds, costs = dict(kinds or {}), dict(costs or {})
    members = {k: tuple(v) for k, v in (together or {}).items()}
    _check_choices(task, infinite, kinds)
    reading = Reading(delimiter, decimal, encoding, (missing,) if isinstance(missing, str) else tuple(missing))
    arrow, label = read_source(source, reading)
    held = 0
    if holdout is not None:
        extra, extra_label = read_source(holdout, reading)
        arrow, held = _stacked(arrow, label, extra, extra_label)
    table = build_table(
        Source(arrow, label, kinds, members, reading, infinite),
        target,
        task,
        positive,
        _names(ids),
        _names(ignore),
        groups,
        order,
        weights,
        costs,
        read_dictionary(dictionary),
        held,
    )
    return table.with_missing_flags(_names(missing_flags)).with_fill(fill or {}) if missing_flags or fill else table


def open_arrays(X: Any, y: Any, names: Sequence[str] | None = None, *, target: str = "y", **options: Any) -> Table:
    """Open a table from the X and y that are in hand.

    Parameters
    ----------
    X : array (rows, columns), or a pandas frame
        Features. An object array may hold words.
    y : array (rows,)
        Target.
    names : list of str, optional
        Column names; made up as x1, x2, … when left out, and said in `table.notes`.
    target : str
        Name to give to the target.
    **options
        As in `open_table`; `groups`, `order` and `weights` may also be arrays of one entry a row.

    Examples
    --------
    >>> import numpy as np, chaff
    >>> table = chaff.open_arrays(np.arange(12.0).reshape(6, 2), [1.0, 2, 3, 4, 5, 6.5])
    >>> table.features
    ('x1', 'x2')
    """
    import pyarrow as pa

    made_up = names is None and not hasattr(X, "columns")
    columns, found = _array_columns(X)
    names = [str(n) for n in (names if names is not None else found)]
    y = np.asarray(y)
    if len(names) != len(columns):
        raise UsageError(f"X has {len(columns)} columns but {len(names)} names were given")
    if y.ndim != 1 or any(len(c) != y.size for c in columns):
        rows = len(columns[0]) if columns else 0
        raise UsageError(f"X and y must have the same rows: X has {rows:,}, y has shape {y.shape}")
    taken = dict(zip(names, columns, strict=True))
    if len(taken) < len(names):
        twins = sorted({n for n in names if names.count(n) > 1})
        raise DataError("X has more than one column of the same name: " + ", ".join(twins))
    if target in taken:
        raise DataError(f"a feature is named '{target}' like the target: pass target=… with another name")
    for role in ("groups", "order", "weights"):
        if options.get(role) is not None and not isinstance(options[role], str):
            taken[f"({role})"] = np.asarray(options[role])
            options[role] = f"({role})"
    arrow = pa.table({n: _arrow_array(n, c) for n, c in {**taken, target: y}.items()})
    table = open_table(arrow, target=target, **options).named("the arrays")
    if not made_up:
        return table
    note = f"names made up: x1 to x{len(names)}, in the order of the columns of X"
    return replace(table, notes=(note, *table.notes))


def build_table(
    source: Source,
    target: str,
    task: str,
    positive: Any,
    ids: tuple[str, ...],
    ignore: tuple[str, ...],
    groups: str | None,
    order: str | None,
    weights: str | None,
    costs: dict[str, float],
    meanings: dict[str, Meaning],
    held: int,
) -> Table:
    """Check the roles, decode the target, and put the Table together."""
    names = list(source.arrow.column_names)
    _check_named(source, names, target, ids, ignore, groups, order, weights, costs)
    told, y, notes = _read_target(source, target, task, positive, meanings.get(target, Meaning()).unit)
    members = {m for group in source.together.values() for m in group}
    roles = {target, *ids, *ignore, *members} | {r for r in (groups, order, weights) if r}
    features = tuple(n for n in (*names, *source.together) if n not in roles)
    if not features:
        raise DataError(f"{source.label} has no column left to be a feature: all are the target, ids or ignored")
    w = _read_weights(source, weights)
    present = ~np.isnan(y)
    left_out = int((~present).sum())
    if left_out:
        words = ("rows have", "are") if left_out > 1 else ("row has", "is")
        notes.append(f"{left_out:,} {words[0]} no {target} and {words[1]} left out")
    rows = np.flatnonzero(present)
    _check_target_varies(told, y[rows], target)
    if held:
        notes.append(f"the last {held:,} rows came as a separate holdout")
    return Table(
        source=source,
        target=told,
        features=features,
        rows=rows,
        y_all=y,
        ids=ids,
        groups_name=groups,
        order_name=order,
        weights_name=weights,
        ignored=ignore,
        groups_all=_group_codes(source, groups),
        order_all=_order_values(source, order),
        weights_all=w,
        meanings=meanings,
        costs=costs,
        notes=tuple(notes),
    )


def read_dictionary(dictionary: Mapping[str, Any] | str | Path | None) -> dict[str, Meaning]:
    """Column meanings from a mapping, or from a CSV file with the columns name, meaning, unit."""
    if dictionary is None:
        return {}
    if isinstance(dictionary, str | Path):
        sheet = read_path(Path(dictionary), Reading()).to_pylist()
        if sheet and "name" not in sheet[0]:
            raise DataError(f"{dictionary}: a column dictionary needs the columns name, meaning, unit")
        return {str(r["name"]): Meaning(str(r.get("meaning") or ""), str(r.get("unit") or "")) for r in sheet}
    out = {}
    for name, value in dictionary.items():
        if isinstance(value, Meaning):
            out[name] = value
        elif isinstance(value, Mapping):
            out[name] = Meaning(str(value.get("meaning", "")), str(value.get("unit", "")))
        elif isinstance(value, str):
            out[name] = Meaning(value)
        else:
            text, unit = value
            out[name] = Meaning(str(text), str(unit))
    return out


def _names(value: str | Sequence[str]) -> tuple[str, ...]:
    return (value,) if isinstance(value, str) else tuple(value)


def _check_choices(task: str, infinite: str, kinds: Mapping[str, str]) -> None:
    if task not in ("auto", "regression", "classification"):
        raise UsageError(f"task must be auto, regression or classification, not '{task}'")
    if infinite not in ("error", "missing"):
        raise UsageError(f"infinite must be error or missing, not '{infinite}'")
    for name, kind in kinds.items():
        if kind not in KINDS:
            raise UsageError(f"kind of '{name}' must be one of {', '.join(KINDS)}, not '{kind}'.{nearest(kind, KINDS)}")


def _check_named(
    source: Source,
    names: list[str],
    target: str,
    ids: tuple[str, ...],
    ignore: tuple[str, ...],
    groups: str | None,
    order: str | None,
    weights: str | None,
    costs: Mapping[str, float],
) -> None:
    asked = [target, *ids, *ignore, *source.kinds, *(m for g in source.together.values() for m in g)]
    asked += [r for r in (groups, order, weights) if r]
    for name in asked:
        if name not in names:
            raise UnknownColumn(f"column '{name}' is not in {source.label}.{nearest(name, names)}")
    for name in costs:
        if name not in names and name not in source.together:
            raise UnknownColumn(f"column '{name}' (in costs) is not in {source.label}.{nearest(name, names)}")
    for name in source.together:
        if name in names:
            raise DataError(f"together '{name}': a column of that name exists already, choose another")
    for role, held in (("ids", ids), ("ignore", ignore), ("groups", (groups,)), ("weights", (weights,))):
        if target in held:
            raise UsageError(f"'{target}' is the target and cannot also be under {role}")


def _read_target(source: Source, name: str, task: str, positive: Any, unit: str) -> tuple[Target, Any, list[str]]:
    column = source.column(name)
    notes: list[str] = []
    if task == "auto" and column.kind == "binary" and not column.whole and _are_numbers(column.levels):
        task = "regression"  # 2.5 and 3.5 are two measured values, not two classes
    numeric = column.kind == "number"
    if column.kind == "date":
        raise DataError(f"target '{name}' holds dates, which cannot be predicted: derive a number from it first")
    if task == "regression" and not numeric:
        if column.kind != "binary" or not _are_numbers(column.levels):
            raise DataError(f"target '{name}' holds words ({_some(column.levels)}), so the task cannot be regression")
        column = Column(name, "number", np.array([*map(float, column.levels), np.nan])[_codes(column, 2)])
        numeric = True
    if numeric and task != "classification":
        present = np.unique(column.values[~np.isnan(column.values)])
        if column.whole and 2 < present.size <= FEW_NUMBERS:
            notes.append(
                f"target '{name}' has {present.size} distinct whole numbers and is read as a number; "
                "task='classification' reads them as classes"
            )
        return Target(name, "regression", unit=unit), column.values, notes
    if numeric:
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
            raise UsageError(f"positive class '{wanted}' is not in target '{name}'; its classes are {_some(classes)}")
        if classes[0] == wanted:
            classes, y = (classes[1], classes[0]), 1.0 - y
    elif positive is not None:
        raise UsageError(f"target '{name}' has {len(classes)} classes, so no single one is positive")
    return Target(name, "classification", classes, classes[1] if len(classes) == 2 else None), y, notes


def _codes(column: Column, missing: int) -> Any:
    return np.where(column.missing, missing, np.nan_to_num(column.values)).astype(int)


def _are_numbers(levels: Sequence[str]) -> bool:
    try:
        return bool([float(v) for v in levels])
    except ValueError:
        return False


def _some(words: Sequence[str], most: int = 5) -> str:
    shown = ", ".join(f"'{w}'" for w in words[:most])
    return shown + (f" and {len(words) - most} more" if len(words) > most else "")


def _check_target_varies(target: Target, y: Any, name: str) -> None:
    if y.size == 0:
        raise DataError(f"target '{name}' is missing in every row")
    if y.size == 1:
        raise DataError(f"only one row has a {name}: nothing can be learned from it")
    if target.task == "regression":
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
            f"{words[0]} {_some(single)} of target '{name}' {words[1]}, which cannot be both learned and tested: "
            f"leave {'them' if many else 'it'} out or join {'them' if many else 'it'} to another class"
        )


def _read_weights(source: Source, name: str | None) -> Any:
    if name is None:
        return None
    column = source.column(name)
    values = column.values
    if column.kind == "binary":
        values = np.array([*map(float, column.levels), np.nan])[_codes(column, 2)] if _are_numbers(column.levels) else values
    elif column.kind != "number":
        raise DataError(f"weights '{name}' must be numbers, not {column.kind} values")
    if np.isnan(values).any() or (values < 0).any():
        raise DataError(f"weights '{name}' must be zero or more in every row and never missing")
    if not values.any():
        raise DataError(f"weights '{name}' are all zero")
    return values


def _group_codes(source: Source, name: str | None) -> Any:
    if name is None:
        return None
    column = source.column(name)
    if column.missing.any():
        raise DataError(f"groups '{name}' is missing in {int(column.missing.sum()):,} rows: every row needs its group")
    return np.unique(column.values, return_inverse=True)[1].astype(np.int64)


def _order_values(source: Source, name: str | None) -> Any:
    if name is None:
        return None
    column = source.column(name)
    if column.kind not in ("number", "date", "binary"):
        raise DataError(f"order '{name}' holds {column.kind} values: rows are ordered by a date or a number")
    if column.missing.any():
        raise DataError(f"order '{name}' is missing in {int(column.missing.sum()):,} rows: every row needs its place in time")
    return column.values


def _stacked(arrow: Any, label: str, extra: Any, extra_label: str) -> tuple[Any, int]:
    """Training and holdout rows in one table, so that both are read with the same kinds and levels."""
    import pyarrow as pa

    gone = [n for n in arrow.column_names if n not in extra.column_names]
    if gone:
        raise DataError(f"holdout {extra_label} lacks column{'s' * (len(gone) > 1)} {_some(gone)} of {label}")
    extra = extra.select(arrow.column_names)
    try:
        both = pa.concat_tables([arrow, extra], promote_options="permissive")
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        wrong = [n for n in arrow.column_names if not _joinable(arrow.column(n).type, extra.column(n).type)]
        raise DataError(f"holdout {extra_label} holds another kind than {label} in {_some(wrong) or 'a column'}") from error
    # Metadata that survives the join, so that the split is found again however the table is viewed.
    return both.replace_schema_metadata({"holdout_rows": str(extra.num_rows)}), extra.num_rows


def _joinable(a: Any, b: Any) -> bool:
    import pyarrow as pa

    try:
        pa.unify_schemas([pa.schema([("x", a)]), pa.schema([("x", b)])], promote_options="permissive")
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return False
    return True


def _array_columns(X: Any) -> tuple[list[Any], list[str]]:
    if hasattr(X, "columns"):
        return [X[c] for c in X.columns], [str(c) for c in X.columns]
    X = np.asarray(X)
    if X.ndim != 2:
        raise UsageError(f"X must have rows and columns, not shape {X.shape}; one column alone is X.reshape(-1, 1)")
    columns = np.ascontiguousarray(X.T)
    return list(columns), [f"x{k + 1}" for k in range(X.shape[1])]


def _arrow_array(name: str, column: Any) -> Any:
    import pyarrow as pa

    try:
        return pa.Array.from_pandas(column)
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        kinds = " and ".join(sorted({type(v).__name__ for v in np.asarray(column, object).tolist() if v is not None}))
        raise DataError(f"column '{name}' mixes {kinds}: make it one kind first") from error
