"""Associations: columns of every kind on one scale, and the clusters they form."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.errors import UsageError
from chaff.kernels.class_sums import class_sums
from chaff.methods.overlap.correlations import group_table, groups_of
from chaff.methods.overlap.overlap_data import OverlapData
from chaff.methods.repeats import why_stays
from chaff.results.findings import Better, Findings
from chaff.stats.correlation_matrices import pairwise_pearson
from chaff.stats.group_differences import one_way
from chaff.stats.information import chi_square
from chaff.table.kinds import Column
from chaff.table.table import Table
from chaff.work import Work, task

MOST_LEVELS = 1000
CLUSTER_WAYS: dict[str, Better] = {"cluster": "lower", "size": "higher"}


def associations(data: OverlapData, limit: float) -> Findings:
    """See `chaff.associations`."""
    import pandas as pd

    if not 0 <= limit <= 1:
        raise UsageError(f"limit must be between 0 and 1, not {limit}")
    table = data.table
    names = [f for f in table.features if table.kind(f) in ("number", "binary", "category")]
    A = association_matrix(table, names, data.work)
    away = np.where(np.eye(len(names), dtype=bool), 0.0, np.nan_to_num(A))
    best = away.argmax(1)
    group = groups_of(A, limit)
    index = pd.Index(names, name="feature")
    frame = pd.DataFrame(
        {"kind": [table.kind(f) for f in names], "strongest": away.max(1), "partner": [names[k] for k in best], "group": group}, index=index
    )
    i, j = np.triu_indices(len(names), 1)
    over = np.flatnonzero(np.nan_to_num(A[i, j]) > limit)
    over = over[np.argsort(-A[i, j][over], kind="stable")]
    pairs = pd.DataFrame(
        [(names[i[k]], names[j[k]], A[i[k], j[k]], _what(table, names[i[k]], names[j[k]])) for k in over],
        columns=["first", "second", "association", "what"],
    )
    groups = group_table(names, group)
    more = {"matrix": pd.DataFrame(A, index=names, columns=names), "pairs": pairs, "groups": groups}
    notes = (f"{len(table):,} rows, {len(names)} columns",)
    return Findings("associations", frame, "strongest", {"strongest": "lower"}, {"limit": limit}, notes, more, "worst")


def _what(table: Table, a: str, b: str) -> str:
    categories = sum(table.kind(f) == "category" for f in (a, b))
    return ("|r|", "√ω²", "Cramér's V")[categories]


def association_matrix(table: Table, names: Sequence[str], work: Work) -> Any:
    """float64 (p, p), 1 on the diagonal; NaN where nothing can be told."""
    columns = [table.column(f) for f in names]
    category = np.array([c.kind == "category" for c in columns], bool)
    numbers = np.flatnonzero(~category)
    out = np.full((len(names), len(names)), np.nan)
    if numbers.size:
        out[np.ix_(numbers, numbers)] = np.abs(pairwise_pearson(np.array([columns[k].values for k in numbers]))[0])
    categories = np.flatnonzero(category).tolist()
    for k, row in zip(categories, work.each(task(_with_category, columns, category), categories), strict=True):
        known = ~np.isnan(row)
        out[k, known], out[known, k] = row[known], row[known]
    np.fill_diagonal(out, 1.0)
    return out


def _with_category(columns: list[Column], category: Flags, k: int) -> Floats:
    """Association of one category with every number and every category before it; NaN elsewhere."""
    there = [j for j in range(len(columns)) if not category[j] or j < k]
    out = np.full(len(columns), np.nan)
    out[there] = [_pair(columns[k], columns[j]) for j in there]
    return out


def _pair(a: Column, b: Column) -> float:
    """A pair with at least one category."""
    both = ~a.missing & ~b.missing
    if a.kind == b.kind == "category":
        x, y = a.values[both].astype(np.int64), b.values[both].astype(np.int64)
        if len(a.levels) * len(b.levels) > MOST_LEVELS**2:
            return float("nan")
        table = np.bincount(x * len(b.levels) + y, minlength=len(a.levels) * len(b.levels)).reshape(len(a.levels), len(b.levels))
        return float(chi_square(table[None].astype(float)).cramers_v[0])
    number, category = (b, a) if a.kind == "category" else (a, b)
    values = number.values[both]
    if not values.size:
        return float("nan")
    sums = np.zeros((len(category.levels), 4))
    class_sums(values, category.values[both].astype(np.int64), np.empty(0), float(values.mean()), sums)
    counts, s, squares = sums[None, :, 0], sums[None, :, 2], sums[:, 3].sum()
    return float(np.sqrt(one_way(counts, s, counts, np.array([squares])).omega_squared[0]))


def clusters(data: OverlapData, limit: float, linkage: str) -> Findings:
    """See `chaff.clusters`."""
    import pandas as pd
    from scipy.cluster.hierarchy import fcluster

    if linkage not in ("average", "complete"):
        raise UsageError(f"linkage must be average or complete, not '{linkage}'")
    result = associations(data, limit)
    names = list(result.frame.index)
    if len(names) < 2:
        raise UsageError("clusters need two columns or more")
    tree = tree_of(result.more["matrix"].to_numpy(float), linkage)
    label = fcluster(tree, 1.0 - limit, criterion="distance")
    claim = data.priorities
    rows = []
    for name, own in zip(names, label, strict=True):
        members = [n for n, g in zip(names, label, strict=True) if g == own]
        first = min(members, key=lambda n: claim[n].repeating())
        rows.append((int(own), len(members), name == first, _why(name, first, members, claim)))
    frame = pd.DataFrame(rows, columns=["cluster", "size", "stays", "why"], index=pd.Index(names, name="feature"))
    order = {c: k for k, c in enumerate(frame.sort_values("size", ascending=False, kind="stable")["cluster"].unique(), 1)}
    frame["cluster"] = frame["cluster"].map(order)
    merges = pd.DataFrame(tree, columns=["first", "second", "distance", "size"])
    notes = (*result.notes, f"{len(order)} clusters by {linkage} linkage at 1 - association = {1 - limit:g}")
    more, ways = {"tree": merges, "matrix": result.more["matrix"]}, CLUSTER_WAYS
    return Findings(
        "clusters", frame.sort_values("cluster", kind="stable"), "cluster", ways, {"limit": limit, "linkage": linkage}, notes, more
    )


def _why(name: str, first: str, members: list[str], claim: Any) -> str:
    if len(members) == 1:
        return "alone"
    if name == first:
        others = [m for m in members if m != first]
        return f"kept for {len(others)} more: {why_stays(claim[first], min((claim[m] for m in others), key=lambda c: c.repeating()))}"
    return f"represented by {first}: {why_stays(claim[first], claim[name])}"


def tree_of(A: Any, linkage: str) -> Any:
    """Merges of an agglomerative tree on 1 - |association|."""
    from scipy.cluster.hierarchy import linkage as merge
    from scipy.spatial.distance import squareform

    distance = 1.0 - np.abs(np.nan_to_num(A))
    np.fill_diagonal(distance, 0.0)
    return merge(squareform((distance + distance.T) / 2, checks=False), method=linkage)
