"""Correlations: the matrix, the pairs above a limit, the groups they form, several limits at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.methods.overlap.matrix import TELL, Matrix, bytes_for, check_memory, complete_rows, number_matrix, number_names, target_as_number
from chaff.methods.overlap.pair_cut import column_correlations
from chaff.results.findings import Findings
from chaff.stats.correlation import correlation_p, fisher_interval
from chaff.stats.matrices import kendall_column, pairwise_pearson, partial_correlations, shrinkage, spearman_matrix
from chaff.table.moments import table_moments
from chaff.table.table import Table
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

METHODS = ("pearson", "spearman", "kendall")
NAMES = {"pearson": "pearson_r", "spearman": "spearman_rho", "kendall": "kendall_tau"}


def correlations(
    table: Table,
    method: str = "pearson",
    *,
    limit: float = 0.95,
    limits: Sequence[float] = (0.7, 0.8, 0.9, 0.95, 0.99),
    rows: str = "pairwise",
    with_target: bool = False,
    partial: bool = False,
    shrink: bool | None = None,
    features: Sequence[str] | None = None,
    level: float = 0.95,
    workers: int | None = None,
) -> Findings:
    """Which number columns go together, and in which groups.

    Parameters
    ----------
    table : Table
    method : "pearson", "spearman" or "kendall"
    limit : float
        |r| above which a pair is listed and joins a group.
    limits : list of float
        How many pairs and groups there would be at each, in ``more["limits"]``.
    rows : "pairwise" or "complete"
        Each pair over the rows where both are present, or all over the rows where every column is.
    with_target : bool
        Put a number (or two-class) target in the picture.
    partial : bool
        Correlation with all other columns held fixed; on complete rows.
    shrink : bool, optional
        Shrink the off-diagonal entries towards 0 by the best share (on complete rows); by itself when columns outnumber rows.
    features : list of str, optional
    level : float
        Confidence of the intervals.

    Returns
    -------
    Findings
        One row a column: strongest_r, partner, group (0 for none). ``more``: matrix, rows (of each pair), pairs (first,
        second, r, low, high, rows, p, q), groups, limits.

    Raises
    ------
    UsageError, DataError

    Notes
    -----
    Source: Pearson, 1896; Spearman, 1904; Kendall, 1945; shrinkage Schäfer and Strimmer, 2005.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.correlations(chaff.demo.table(rows=200), limit=0.9)
    >>> tuple(found.more["pairs"].loc[0, ["first", "second"]])
    ('test_weight_kg_hl', 'test_weight_lb_bu')
    """
    _check(method, limit, limits, rows, level)
    names, note = number_names(table, features)
    notes = [note] if note else []
    p, n = len(names), len(table)
    shrink = p > n if shrink is None else shrink
    work = Work(workers=workers)
    if bytes_for(p, n) > TELL:
        notes.append(f"needs about {bytes_for(p, n) / 1e9:.1f} GB")
        work.tell("correlations", notes[-1])
    if method == "pearson" and rows == "pairwise" and not (partial or shrink) and p > 1:
        check_memory(p, n)
        matrix, r, shared = _from_moments(table, names, with_target and target_as_number(table), work)
    else:
        matrix = number_matrix(table, features, with_target)
        if rows == "complete" or partial or shrink:
            matrix, note = complete_rows(matrix)
            notes += [note] if note else []
        r, shared = _matrix(matrix, method, work)
    if shrink:
        share = shrinkage(matrix.X)
        r = r * (1 - share) + np.diag(np.diagonal(r) * share)
        notes.append(f"shrunk towards 0 by {share:.0%}" + (": columns outnumber rows" if p > n else ""))
    if partial:
        r = partial_correlations(np.nan_to_num(r))
        notes.append("partial: all other columns held fixed")
    pairs = pair_table(matrix.names, r, shared - (len(matrix.names) - 2 if partial else 0), limit, level, NAMES[method])
    count = matrix.X.shape[1] if matrix.X.size else n
    return _findings(table, matrix, count, r, shared, pairs, method, limit, limits, notes)


def _from_moments(table: Table, names: list[str], with_target: bool, work: Work) -> tuple[Matrix, Floats, Floats]:
    """Pearson's r over the rows that each pair shares, without a copy of the rows."""
    moments = table_moments(replace(table, weights_all=None), names, work)
    kept = len(names) + with_target
    r = column_correlations(moments)[:kept, :kept]
    matrix = Matrix((*names, table.target.name) if with_target else tuple(names), np.empty((kept, 0)))
    return matrix, r, np.full(r.shape, float(len(table))) if moments.complete else moments.N[:kept, :kept]


def _check(method: str, limit: float, limits: Sequence[float], rows: str, level: float) -> None:
    if method not in METHODS:
        raise UsageError(f"method must be one of {', '.join(METHODS)}, not '{method}'")
    if rows not in ("pairwise", "complete"):
        raise UsageError(f"rows must be pairwise or complete, not '{rows}'")
    for value in (limit, *limits):
        if not 0 <= value <= 1:
            raise UsageError(f"a correlation limit must be between 0 and 1, not {value}")
    if not 0 < level < 1:
        raise UsageError(f"level must be between 0 and 1, not {level}")


def _matrix(matrix: Matrix, method: str, work: Work) -> tuple[Floats, Floats]:
    """(correlations, rows of each pair)."""
    X = matrix.X
    if method == "pearson":
        return pairwise_pearson(X)
    there = (~np.isnan(X)).astype(float)
    shared = there @ there.T
    if method == "spearman":
        return spearman_matrix(X), shared
    upper = np.array(work.each(lambda i: kendall_column(X, i), range(len(X))))
    out = np.where(np.isnan(upper), upper.T, upper)
    np.fill_diagonal(out, 1.0)
    return out, shared


def pair_table(names: Sequence[str], r: Floats, rows: Floats, limit: float, level: float, what: str) -> pd.DataFrame:
    """Pairs above the limit, the strongest first."""
    import pandas as pd

    from chaff.stats.adjust import benjamini_hochberg

    i, j = np.triu_indices(len(names), 1)
    values, n = r[i, j], rows[i, j]
    p = correlation_p(values, n) if what != "kendall_tau" else np.full(values.size, np.nan)
    q = benjamini_hochberg(p)
    over = np.flatnonzero(np.abs(np.nan_to_num(values)) > limit)
    over = over[np.argsort(-np.abs(values[over]), kind="stable")]
    variance = {"pearson_r": 1.0, "spearman_rho": 1.06, "kendall_tau": 0.437}[what]
    low, high = fisher_interval(values[over], 3 + (n[over] - 3) / variance, level)
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
    table: Table,
    matrix: Matrix,
    count: int,
    r: Floats,
    shared: Floats,
    pairs: pd.DataFrame,
    method: str,
    limit: float,
    limits: Sequence[float],
    notes: list[str],
) -> Findings:
    import pandas as pd

    names = list(matrix.names)
    away = np.abs(np.where(np.eye(len(names), dtype=bool), 0.0, np.nan_to_num(r)))
    best = away.argmax(1)
    group = groups_of(r, limit)
    frame = pd.DataFrame(
        {"strongest_r": r[np.arange(len(names)), best], "partner": [names[k] for k in best], "group": group},
        index=pd.Index(names, name="feature"),
    )
    tried = []
    for value in limits:
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
    settings = {"method": method, "limit": limit, "target": table.target.name}
    return Findings("correlations", frame, "strongest_r", True, settings, tuple(notes), more, {"strongest_r": "magnitude"})
