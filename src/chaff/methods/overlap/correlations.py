"""Correlations: the matrix, the pairs above a limit, the groups they form, several limits at once.

Number columns as a matrix: pairwise or complete rows, said in words.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import DataError, UsageError
from chaff.memory import machine_bytes
from chaff.methods.overlap.overlap_data import OverlapData
from chaff.results.findings import Findings
from chaff.stats.correlation import correlation_p, fisher_interval
from chaff.stats.correlation_matrices import kendall_column, pairwise_pearson, partial_correlations, shrinkage, spearman_matrix
from chaff.table.table import Table
from chaff.visible import listed
from chaff.work import Work, task

if TYPE_CHECKING:
    import pandas as pd


TELL = 1e9  # bytes from which the need is told
ENOUGH = 10  # complete rows a column, and half of all rows, from which complete rows are used


@dataclass(frozen=True)
class Matrix:
    """Columns (p, n), NaN where missing."""

    names: tuple[str, ...]
    X: Floats
    note: str = ""


def number_names(table: Table, features: Sequence[str] | None = None) -> tuple[list[str], str]:
    """(number and binary columns with any spread, what was left out in words)."""
    if features is not None:
        table.check_known(features)
    names = [f for f in (features if features is not None else table.features) if table.kind(f) in ("number", "binary")]
    other = [f for f in features or () if f not in names]
    if other:
        raise UsageError(f"'{other[0]}' holds {table.kind(other[0])} values, not numbers; chaff.associations takes every kind")
    still = [f for f in names if not _varies(table.column(f).values)]
    names = [f for f in names if f not in still]
    words = listed(still, 5)
    return names, f"without spread, so left out: {words}" if still else ""


def target_as_number(table: Table) -> bool:
    """Whether the target can stand among number columns: a number, or two classes as 0 and 1."""
    return table.target.task == "regression" or len(table.target.classes) == 2


def number_matrix(table: Table, features: Sequence[str] | None = None, with_target: bool = False) -> Matrix:
    """Number and binary columns; those without spread take no part, which is said.

    Raises
    ------
    DataError
        Also when the matrix and its square would not fit into memory: says how much it would take.
    """
    names, words = number_names(table, features)
    with_target = with_target and target_as_number(table)
    p = len(names) + with_target
    if p < 2:
        raise DataError(f"{table.label} has {'only one column' if names else 'no column'} of numbers with any spread: nothing to compare")
    check_memory(p, len(table))
    columns = [table.column(f).values for f in names] + ([table.y] if with_target else [])
    return Matrix((*names, table.target.name) if with_target else tuple(names), np.array(columns), words)


def bytes_for(columns: int, rows: int) -> float:
    """What a matrix of columns, its standardised copy and some square tables take."""
    return 8.0 * (2.5 * columns * rows + 6.0 * columns * columns)


def check_memory(columns: int, rows: int) -> None:
    """Refused, with the size, when it is more than the machine has to give."""
    need, there = bytes_for(columns, rows), machine_bytes()
    if need > 0.8 * there:
        raise DataError(
            f"{columns:,} columns by {rows:,} rows take about {need / 1e9:.1f} GB, of {there / 1e9:.1f} GB that are there: "
            "name fewer columns with features=…, or take fewer rows"
        )


def _varies(values: Floats) -> bool:
    present = values[~np.isnan(values)]
    return present.size > 1 and bool(present.min() < present.max())


def complete_rows(matrix: Matrix, insist: bool = False) -> tuple[Matrix, str]:
    """(columns over the rows where all are present, note); refused when there are too few and `insist`."""
    there = ~np.isnan(matrix.X).any(0)
    count, p = int(there.sum()), len(matrix.names)
    if there.all():
        return matrix, ""
    if count < 3 or (insist and count <= p):
        raise DataError(f"only {count:,} rows have all {p} columns: leave out those with most gaps, or fill them (table.with_fill)")
    return Matrix(matrix.names, matrix.X[:, there], matrix.note), f"{count:,} complete rows of {there.size:,}"


def enough_complete(matrix: Matrix) -> bool:
    there = int((~np.isnan(matrix.X).any(0)).sum())
    return bool(there >= max(ENOUGH * len(matrix.names), 0.5 * matrix.X.shape[1]))


METHODS = ("pearson", "spearman", "kendall")
NAMES = {"pearson": "pearson_r", "spearman": "spearman_rho", "kendall": "kendall_tau"}


@dataclass(frozen=True)
class Correlating:
    """How correlations are looked at; see `chaff.correlations`."""

    method: str = "pearson"
    limit: float = 0.95
    limits: Sequence[float] = (0.7, 0.8, 0.9, 0.95, 0.99)
    rows: str = "pairwise"
    with_target: bool = False
    partial: bool = False
    shrink: bool | None = None
    confidence: float = 0.95

    def __post_init__(self) -> None:
        if self.method not in METHODS:
            raise UsageError(f"method must be one of {', '.join(METHODS)}, not '{self.method}'")
        if self.rows not in ("pairwise", "complete"):
            raise UsageError(f"rows must be pairwise or complete, not '{self.rows}'")
        for value in (self.limit, *self.limits):
            if not 0 <= value <= 1:
                raise UsageError(f"a correlation limit must be between 0 and 1, not {value}")
        if not 0 < self.confidence < 1:
            raise UsageError(f"confidence must be between 0 and 1, not {self.confidence}")


def correlations(data: OverlapData, how: Correlating) -> Findings:
    """See `chaff.correlations`."""
    table, work = data.table, data.work
    names, note = number_names(table)
    notes = [note] if note else []
    p, n = len(names), len(table)
    shrink = p > n if how.shrink is None else how.shrink
    if bytes_for(p, n) > TELL:
        notes.append(f"needs about {bytes_for(p, n) / 1e9:.1f} GB")
    if how.method == "pearson" and how.rows == "pairwise" and not (how.partial or shrink) and p > 1:
        check_memory(p, n)
        matrix, r, shared = _from_moments(data, names, how.with_target and target_as_number(table))
    else:
        matrix = number_matrix(table, None, how.with_target)
        if how.rows == "complete" or how.partial or shrink:
            matrix, note = complete_rows(matrix)
            notes += [note] if note else []
        r, shared = correlation_matrix(matrix, how.method, work)
    if shrink:
        share = shrinkage(matrix.X)
        r = r * (1 - share) + np.diag(np.diagonal(r) * share)
        notes.append(f"shrunk towards 0 by {share:.0%}" + (": columns outnumber rows" if p > n else ""))
    if how.partial:
        r = partial_correlations(np.nan_to_num(r))
        notes.append("partial: all other columns held fixed")
    fixed = len(matrix.names) - 2 if how.partial else 0
    pairs = pair_table(matrix.names, r, shared - fixed, how.limit, how.confidence, NAMES[how.method])
    count = matrix.X.shape[1] if matrix.X.size else n
    return _findings(table, matrix, count, r, shared, pairs, how, notes)


def _from_moments(data: OverlapData, names: list[str], with_target: bool) -> tuple[Matrix, Floats, Floats]:
    """Pearson's r over the rows that each pair shares, without a copy of the rows."""
    table, moments = data.table, data.plain_moments.select(names)
    kept = len(names) + with_target
    columns = np.append(data.columns_of(names), np.arange(data.moments.layout.width, data.moments.sums.size))[:kept]
    r = data.plain_correlations[np.ix_(columns, columns)]
    matrix = Matrix((*names, table.target.name) if with_target else tuple(names), np.empty((kept, 0)))
    return matrix, r, np.full(r.shape, float(len(table))) if moments.complete else moments.N[:kept, :kept]


def correlation_matrix(matrix: Matrix, method: str, work: Work) -> tuple[Floats, Floats]:
    """(correlations, rows of each pair)."""
    X = matrix.X
    if method == "pearson":
        return pairwise_pearson(X)
    there = (~np.isnan(X)).astype(float)
    shared = there @ there.T
    if method == "spearman":
        return spearman_matrix(X), shared
    upper = np.array(work.each(task(kendall_column, X), range(len(X))))
    out = np.where(np.isnan(upper), upper.T, upper)
    np.fill_diagonal(out, 1.0)
    return out, shared


def pair_table(names: Sequence[str], r: Floats, rows: Floats, limit: float, confidence: float, what: str) -> pd.DataFrame:
    """Pairs above the limit, the strongest first."""
    import pandas as pd

    from chaff.stats.p_adjustment import benjamini_hochberg

    i, j = np.triu_indices(len(names), 1)
    values, n = r[i, j], rows[i, j]
    p = correlation_p(values, n) if what != "kendall_tau" else np.full(values.size, np.nan)
    q = benjamini_hochberg(p)
    over = np.flatnonzero(np.abs(np.nan_to_num(values)) > limit)
    over = over[np.argsort(-np.abs(values[over]), kind="stable")]
    variance = {"pearson_r": 1.0, "spearman_rho": 1.06, "kendall_tau": 0.437}[what]
    low, high = fisher_interval(values[over], 3 + (n[over] - 3) / variance, confidence)
    named = np.array(names, dtype=object)
    return pd.DataFrame(
        {
            "first": named[i[over]],
            "second": named[j[over]],
            what: values[over],
            f"{what}_low": low,
            f"{what}_high": high,
            "rows": n[over].astype(int),
            "p": p[over],
            "q": q[over],
        }
    )


def groups_of(r: Floats, limit: float) -> Any:
    """Group of every column: those that chains of pairs above the limit hold together; 0 for a column alone."""
    from scipy.sparse.csgraph import connected_components

    over = np.abs(np.nan_to_num(r)) > limit
    np.fill_diagonal(over, False)
    _, label = connected_components(over, directed=False)
    sizes = np.bincount(label)
    order = [k for k in np.argsort(-sizes, kind="stable") if sizes[k] > 1]
    number = {k: place for place, k in enumerate(order, 1)}
    return np.array([number.get(k, 0) for k in label])


def group_table(names: Sequence[str], group: Any) -> pd.DataFrame:
    """One row a group: group, size, features."""
    import pandas as pd

    members = {g: [n for n, own in zip(names, group, strict=True) if own == g] for g in range(1, int(group.max(initial=0)) + 1)}
    return pd.DataFrame([(g, len(m), ", ".join(m)) for g, m in members.items()], columns=["group", "size", "features"])


def _findings(
    table: Table, matrix: Matrix, count: int, r: Floats, shared: Floats, pairs: pd.DataFrame, how: Correlating, notes: list[str]
) -> Findings:
    import pandas as pd

    names = list(matrix.names)
    away = np.abs(np.where(np.eye(len(names), dtype=bool), 0.0, np.nan_to_num(r)))
    best = away.argmax(1)
    group = groups_of(r, how.limit)
    frame = pd.DataFrame(
        {"strongest_r": r[np.arange(len(names)), best], "partner": [names[k] for k in best], "group": group},
        index=pd.Index(names, name="feature"),
    )
    tried = []
    for value in how.limits:
        g = groups_of(r, value)
        tried.append((value, int((away > value).sum() // 2), int(g.max(initial=0)), int((g > 0).sum())))
    groups = group_table(names, group)
    more = {
        "matrix": pd.DataFrame(r, index=names, columns=names),
        "rows": pd.DataFrame(shared.astype(int), index=names, columns=names),
        "pairs": pairs,
        "groups": groups,
        "limits": pd.DataFrame(tried, columns=["limit", "pairs", "groups", "columns"]).set_index("limit"),
    }
    notes = [f"{count:,} rows, {len(names)} number columns", *notes]
    settings = {"method": how.method, "limit": how.limit, "target": table.target.name}
    return Findings("correlations", frame, "strongest_r", {"strongest_r": "nearest"}, settings, tuple(notes), more, "worst")
