"""Triage: the leading columns of a very wide table, scored block by block of columns so that memory stays flat."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from chaff.errors import DataError, UnknownColumn, UsageError, nearest
from chaff.evaluate.setting import Setting
from chaff.methods.relevance.catalogue import GROUPS, NAMES, better, resolve
from chaff.methods.relevance.stage import Relevance
from chaff.results.findings import Better, Findings
from chaff.table.derived import others_in
from chaff.table.files.sources import read_source, source_columns
from chaff.table.large_tables import stored_files
from chaff.table.opening import open_on
from chaff.table.table import Table
from chaff.table.terms import Terms
from chaff.work import Work, Workers

if TYPE_CHECKING:
    import pandas as pd

CELLS = 24_000_000  # of one block: 200 MB of numbers


def triage(
    source: Any,
    target: str,
    *,
    top: int = 1000,
    by: str = "effect_size",
    block: int | None = None,
    seed: int = 0,
    workers: Workers = None,
    watch: Callable[[int, int], None] | None = None,
    **terms: Any,
) -> Findings:
    """Score the columns of a very wide table and keep the best `top`, reading some columns at a time.

    For tables of more columns than memory or patience allow: 100,000 columns become 1,000, on which the real work is done.
    It is a first cut by one number a column, so leave `top` wide; what only works beside another column is not seen.

    Parameters
    ----------
    source : path or frame
        A Parquet file is read block by block; other files and frames are read whole, and looked at block by block.
    target : str
    top : int
        Columns to keep.
    by : str
        effect_size, mutual_information, or another statistic of `chaff.relevance`.
    block : int, optional
        Columns at a time; as many as make 24 million cells when left out.
    seed, workers : int
    watch : callable, optional
        ``watch(columns done, of all)``.
    **terms
        As in `chaff.open_table`. What is under `ignore` or a role takes no part.

    Returns
    -------
    Findings
        The best `top` features, best first. ``settings["columns"]`` is how many were scored.

    Raises
    ------
    UsageError, DataError

    Examples
    --------
    >>> import chaff
    >>> found = chaff.triage(chaff.demo.lots(rows=100), "loaf_volume", top=5, block=10, ignore=["accepted", "grade"])
    >>> len(found.frame), found.frame.index[0]
    (5, 'crumb_score')
    """
    import pandas as pd

    if top < 1 or (block is not None and block < 1):
        raise UsageError("top and block must be 1 or more")
    if by != "effect_size" and by not in NAMES and better(by) != "lower":
        raise UsageError(f"triage goes by effect_size or a statistic, not '{by}'.{nearest(by, NAMES)}")
    names, rows, tables = _blocks(source, block, Terms.from_settings(target=target, **terms))
    work = Work(seed, workers)
    best: pd.DataFrame | None = None
    done, unread = 0, 0
    ways: dict[str, Better] = {}
    for table in tables:
        result = _scored(table, by, work)
        done += len(table.features)
        if result is None:
            unread += len(table.features)
            continue
        ways = dict(result.better)
        both = result.frame if best is None else pd.concat([best, result.frame])
        merged = Findings("triage", both, by, ways)
        best = merged.ranked(by).head(top)
        if watch is not None:
            watch(done, names)
    if best is None:
        raise DataError(f"none of the {names:,} columns can be scored by {by}")
    return _findings(best, ways, {"columns": done, "top": top, "by": by}, rows, unread)


def _findings(best: pd.DataFrame, ways: dict[str, Better], settings: dict[str, Any], rows: int, unread: int) -> Findings:
    by, done = settings["by"], settings["columns"]
    notes: tuple[str, ...] = (f"{rows:,} rows, {done:,} columns scored by {by}, the best {len(best):,} kept",)
    if unread:
        notes += (f"{unread:,} columns do not fit {by} and were passed over",)
    # q-values of one block count that block only, so they are left out rather than shown for what they are not.
    q = [c for c in best.columns if c == "q" or c.endswith("_q")]
    return Findings("triage", best.drop(columns=q), by, {k: v for k, v in ways.items() if k not in q}, settings, notes)


def _scored(table: Table, by: str, work: Work) -> Findings | None:
    statistic = "tests" if by in ("effect_size", "p") else NAMES.get(by, NAMES.get(by.removesuffix("_p"), by))
    if statistic not in GROUPS:
        try:
            resolve(statistic, table)
        except UsageError:
            return None
    result = Relevance(statistic if statistic in GROUPS else [statistic], by).judge(table, Setting.unfolded(table, work))
    return result if by in result.frame.columns else None


def _blocks(source: Any, block: int | None, terms: Terms) -> tuple[int, int, Iterator[Table]]:
    """(columns, rows, tables of some columns each)."""
    if terms.together:
        raise UsageError("triage scores columns one at a time, so it knows no columns that go together; leave `together` out")
    label = Path(source).name if isinstance(source, str | Path) else "the frame"
    result, stored = source_columns(source), stored_files(source)
    if stored is not None:
        there, label = stored
        columns, rows, read = there.column_names, there.num_rows, there.columns
    elif result is not None:
        columns, rows, read = result
    else:
        arrow, label = read_source(source, terms.reading)
        columns, rows, read = list(arrow.column_names), arrow.num_rows, arrow.select
        terms = replace(terms, delimiter=None, decimal=None, encoding=None)
    terms = terms.with_wildcards(columns, label)
    aside = dict.fromkeys([terms.target, *terms.roles])
    out = {*aside, *terms.ignore}
    for name in (n for n in (*aside, *terms.ignore, *terms.features) if n not in columns):
        raise UnknownColumn(f"column '{name}' is not in {label}.{nearest(name, columns)}")
    features = [c for c in columns if c not in out and (not terms.features or c in terms.features)]
    if not features:
        raise DataError(f"{label} has no column left to be a feature: all are the target, ids or ignored")
    size = block or max(1, CELLS // max(rows, 1))

    def tables() -> Iterator[Table]:
        for start in range(0, len(features), size):
            subset = [*aside, *features[start : start + size]]
            yield open_on(read(subset), _terms_for(terms, set(subset))).named(label)

    return len(features), rows, tables()


def _terms_for(terms: Terms, columns: set[str]) -> Terms:
    """The terms as far as they speak of these columns."""

    def offered_only(given: Mapping[str, Any]) -> dict[str, Any]:
        return {k: v for k, v in given.items() if k in columns}

    return replace(
        terms,
        ignore=(),
        features=(),
        derive={k: v for k, v in terms.derive.items() if k in columns and not others_in(v) - columns},
        kinds=offered_only(terms.kinds),
        costs=offered_only(terms.costs),
        panels={},
        fill=offered_only(terms.fill),
        missing_codes=offered_only(terms.missing_codes),
        missing_flags=tuple(n for n in terms.missing_flags if n in columns),
    )
