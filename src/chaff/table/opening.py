"""The edge where data comes in: every argument is checked here, before any work."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Sequence
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

import numpy as np

from chaff.errors import DataError, UsageError
from chaff.table.files.reading import Reading
from chaff.table.files.sources import arrow_column, read_source
from chaff.table.files.text_files import guesses
from chaff.table.large_tables import Limit, on_disk, stored_source
from chaff.table.on_disk.stored import StoredTable
from chaff.table.pickling import lets_travel
from chaff.table.roles import build_table, some_words, with_made_target
from chaff.table.source import Source
from chaff.table.table import Table
from chaff.table.terms import Terms, terms_in_words

lets_travel()


def _says_terms(call: Callable[..., Table]) -> Callable[..., Table]:
    """Puts the terms into the call's documentation and signature, so that they are written down once."""
    call.__doc__ = (call.__doc__ or "").replace("    {terms}", terms_in_words())
    own = inspect.signature(call)
    kept = [p for p in own.parameters.values() if p.kind is not inspect.Parameter.VAR_KEYWORD]
    extra = [
        inspect.Parameter(f.name, inspect.Parameter.KEYWORD_ONLY, default=getattr(Terms(), f.name), annotation=f.type)
        for f in fields(Terms)
        if f.name not in own.parameters
    ]
    call.__signature__ = own.replace(parameters=[*kept, *extra])  # type: ignore[attr-defined]
    return call


@_says_terms
def open_table(
    source: Any,
    target: str = "",
    *,
    holdout: Any = None,
    memory: str | float | None = None,
    scratch: str | Path | None = None,
    **terms: Any,
) -> Table:
    """Open a table: say what is to be predicted and what the columns are for.

    Parameters
    ----------
    source : path, folder, list of files, pandas frame, Arrow table, or any object with the Arrow PyCapsule interface
        Files by their ending: .csv, .tsv, .txt (also .gz, .bz2, .zst), .parquet, .feather, .arrow, .jsonl. A folder's files are one table
        in the order of their names; folders named key=value below it are columns. Also addresses in an object store, such as
        ``s3://mill/lots``.
    target : str
        Column to predict. Rows where it is missing are left out, and counted in `table.notes`. Left out: the table can be screened,
        and its overlap be seen; whatever needs a target says so.
    holdout : as `source`, optional
        Separate rows with the same columns, to be used as the holdout (see `chaff.select`).
    memory : str or float, optional
        What the whole process may take, such as ``"4GB"``: a table that would take more stays on disk, column by column, in scratch.
        Left out: 60 % of the machine's memory.
    scratch : path, optional
        Folder for scratch, in which a table then stays whatever its size (unless `memory` is said too). Left out: ``$CHAFF_SCRATCH``, or
        your cache folder. What lies there is used again while the files stay as they are, and goes after two weeks without use.
    {terms}

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
    return open_on(source, Terms.from_settings(target=target, **terms), holdout, Limit.of(memory, scratch))


def open_on(source: Any, terms: Terms, holdout: Any = None, limit: Limit | None = None) -> Table:
    """Open a table on these terms, within this limit."""
    limit = limit or Limit.of(None, None)
    arrow, label = stored_source(source, terms.reading, limit) or read_source(source, terms.reading)
    held = 0
    if holdout is not None:
        extra, extra_label = _beside(holdout, terms.reading, limit, on_disk=isinstance(arrow, StoredTable))
        arrow, held = _stacked(arrow, label, extra, extra_label)
    terms = terms.with_wildcards(list(map(str, arrow.column_names)), label)
    text, note = terms, ""
    if terms.derives_target:
        arrow, text, note = with_made_target(arrow, label, terms)
    together = {k: tuple(v) for k, v in terms.together.items()}
    codes = {k: tuple(map(str, v)) for k, v in terms.missing_codes.items()}
    kinds = {**dict.fromkeys(terms.dates, "date"), **terms.kinds}
    source_read = Source(arrow, label, kinds, together, terms.reading, terms.infinite, dict(terms.dates), codes, limit=limit)
    if isinstance(arrow, StoredTable):
        limit.check(arrow.num_rows, arrow.num_columns, label)
        source_read = on_disk(source_read, limit)
        note = "; ".join(filter(None, [note, limit.words(source_read.spill, arrow.num_rows, arrow.texts)]))
    table = build_table(source_read, text, held)
    given = (*guesses(source, terms.reading), *table.notes, *([note] if note else []))
    table = replace(table, terms=replace(terms, missing_flags=(), fill={}, derive={}), notes=given)
    if terms.derive:
        table = table.with_derived_dates(terms.derive)
    if terms.missing_flags:
        table = table.with_missing_flags(tuple(terms.missing_flags))
    return table.with_fill(terms.fill) if terms.fill else table


def derive_target(
    source: Any,
    column: str,
    *,
    above: float | None = None,
    cuts: Sequence[float] | None = None,
    labels: Sequence[str] | None = None,
    name: str | None = None,
    **terms: Any,
) -> Table:
    """Open a table whose target is a number column held against a threshold, or cut at several.

    The column it was made from is ignored by itself: it would give the target away.

    Parameters
    ----------
    source : as in `chaff.open_table`
    column : str
        Number column that the target is made from. Rows where it is missing are left out.
    above : float, optional
        "yes" for rows above it, "no" for the others; "yes" is the positive class.
    cuts : list of float, optional
        Several thresholds in place of `above`: one class more than cuts.
    labels : list of str, optional
        Names of the classes from the lowest on; made from the thresholds when left out.
    name : str, optional
        Name of the target; ``loaf_volume_above_400`` or ``loaf_volume_class`` when left out.
    **terms
        As in `chaff.open_table`, which takes the thresholds too: ``target_above=400``.

    Returns
    -------
    Table

    Raises
    ------
    UnknownColumn, UsageError, DataError

    Examples
    --------
    >>> import chaff
    >>> table = chaff.derive_target(chaff.demo.lots(rows=60), "loaf_volume", above=400, ignore=["accepted", "grade"])
    >>> table.target.name, table.target.positive, "loaf_volume" in table.features
    ('loaf_volume_above_400', 'yes', False)
    """
    if (above is None) == (cuts is None):
        raise UsageError("say either above=… (one threshold) or cuts=[…] (several)")
    if cuts is not None and not len(cuts):
        raise UsageError("thresholds must be finite and rising, not []")
    return open_table(source, column, target_above=above, target_cuts=cuts, target_labels=labels, target_name=name or "", **terms)


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
    columns, result = _array_columns(X)
    names = [str(n) for n in (names if names is not None else result)]
    try:
        y = _unmasked(y)
    except ValueError as error:
        raise UsageError(f"y must be one value a row: {error}") from error
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
            beside = _unmasked(options[role])
            if beside.ndim != 1 or beside.size != y.size:
                raise UsageError(f"{role} must be a column's name or an array of {y.size:,} values, one a row, not shape {beside.shape}")
            taken[f"({role})"] = beside
            options[role] = f"({role})"
    try:
        arrow = pa.table({n: arrow_column(n, c) for n, c in {**taken, target: y}.items()})
    except UnicodeError as error:
        raise DataError(f"a column's name contains an invalid Unicode character (lone surrogate; {error}): rename it") from error
    table = open_table(arrow, target=target, **options).named("the arrays")
    if not made_up:
        return table
    note = f"names made up: x1 to x{len(names)}, in the order of the columns of X"
    return replace(table, notes=(note, *table.notes))


def _beside(holdout: Any, reading: Reading, limit: Limit, on_disk: bool) -> tuple[Any, str]:
    """(separate rows, label), on disk where the table itself is."""
    if not on_disk:
        return stored_source(holdout, reading, limit) or read_source(holdout, reading)
    stored = stored_source(holdout, reading, replace(limit, forced=True))
    if stored is None:
        raise UsageError("a table that stays on disk takes its separate holdout from files too: pass a path")
    return stored


def _stacked(arrow: Any, label: str, extra: Any, extra_label: str) -> tuple[Any, int]:
    """Training and holdout rows in one table, so that both are read with the same kinds and levels."""
    import pyarrow as pa

    here, there = set(arrow.column_names), set(extra.column_names)
    gone = [n for n in arrow.column_names if n not in there]
    if gone:
        raise DataError(f"holdout {extra_label} lacks column{'s' * (len(gone) > 1)} {some_words(gone)} of {label}")
    if isinstance(arrow, StoredTable):
        further = [n for n in extra.column_names if n not in here]
        both = arrow.followed_by(extra.without(further))
        return both.replace_schema_metadata({"holdout_rows": str(extra.num_rows)}), extra.num_rows
    extra = _in_memory(extra).select(arrow.column_names)
    try:
        both = pa.concat_tables([arrow, extra], promote_options="permissive")
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        wrong = [n for n in arrow.column_names if not _joinable(arrow.column(n).type, extra.column(n).type)]
        raise DataError(f"holdout {extra_label} holds another kind than {label} in {some_words(wrong) or 'a column'}") from error
    # Metadata that survives the join, so that the split is found again however the table is viewed.
    return both.replace_schema_metadata({"holdout_rows": str(extra.num_rows)}), extra.num_rows


def _in_memory(table: Any) -> Any:
    return table.whole() if isinstance(table, StoredTable) else table


def _joinable(a: Any, b: Any) -> bool:
    import pyarrow as pa

    try:
        pa.unify_schemas([pa.schema([("x", a)]), pa.schema([("x", b)])], promote_options="permissive")
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return False
    return True


def _array_columns(X: Any) -> tuple[list[Any], list[str]]:
    if type(X).__module__.split(".")[0] == "pandas" and hasattr(X, "columns"):
        return [X.iloc[:, k] for k in range(X.shape[1])], [str(c) for c in X.columns]
    if hasattr(X, "columns"):
        raise UsageError(
            f"X must be an array or a pandas frame, not {type(X).__name__}; chaff.open_table takes a table with its target in it"
        )
    try:
        X = _unmasked(X)
    except ValueError as error:
        raise UsageError(f"X must have rows of one length: {error}") from error
    if X.ndim != 2:
        raise UsageError(f"X must have rows and columns, not shape {X.shape}; one column alone is X.reshape(-1, 1)")
    columns = np.array(X.T, order="C", copy=True)  # what happens to X afterwards changes nothing
    return list(columns), [f"x{k + 1}" for k in range(X.shape[1])]


def _unmasked(values: Any) -> Any:
    """What is masked is missing."""
    if not isinstance(values, np.ma.MaskedArray):
        return np.asarray(values)
    if values.dtype.kind in "biuf":
        return np.ma.filled(values.astype(float), np.nan)
    return np.ma.filled(values.astype(object), None)
