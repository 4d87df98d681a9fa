"""Associations: columns of every kind on one scale, and the clusters they form."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.kernels.sums import class_sums
from chaff.methods.overlap.correlations import group_table, groups_of
from chaff.methods.overlap.priority import priorities
from chaff.results.findings import Findings
from chaff.stats.groups import one_way
from chaff.stats.information import chi_square
from chaff.stats.matrices import pairwise_pearson
from chaff.table.kinds import Column
from chaff.table.table import Table
from chaff.work import Work

MOST_LEVELS = 1000


def associations(table: Table, *, limit: float = 0.7, features: Sequence[str] | None = None, workers: int | None = None) -> Findings:
    """How strongly columns of any kind go together, on one scale from 0 to 1.

    Two numbers: |r|. A number and a category: √ω², not η, which is 0.7 for a noise category of half as many levels as
    rows. Two categories: bias-corrected Cramér's V. Each over the rows where both are present.

    Parameters
    ----------
    table : Table
    limit : float
        Above which a pair is listed and joins a group.
    features : list of str, optional

    Returns
    -------
    Findings
        One row a column: strongest, partner, group. ``more``: matrix, pairs (first, second, association, what), groups.

    Notes
    -----
    Source: ω² Hays, 1963; V Bergsma, 2013.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.associations(chaff.demo.table(rows=200))
    >>> float(found.more["matrix"].loc["variety", "protein_pct"]) < 0.3
    True
    """
    import pandas as pd

    if not 0 <= limit <= 1:
        raise UsageError(f"limit must be between 0 and 1, not {limit}")
    names = [f for f in (features or table.features) if table.kind(f) in ("number", "binary", "category")]
    table.check_known(names)
    A = association_matrix(table, names, Work(workers=workers))
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
    return Findings("associations", frame, "strongest", True, {"limit": limit}, notes, more, {"strongest": "higher"})


def _what(table: Table, a: str, b: str) -> str:
    categories = sum(table.kind(f) == "category" for f in (a, b))
    return ("|r|", "√ω²", "Cramér's V")[categories]


def association_matrix(table: Table, names: Sequence[str], work: Work) -> Any:
    """float64 (p, p), 1 on the diagonal; NaN where nothing can be told."""
    columns = [table.column(f) for f in names]
    p = len(names)
    numbers = [k for k in range(p) if columns[k].kind != "category"]
    out = np.full((p, p), np.nan)
    if numbers:
        X = np.array([columns[k].values for k in numbers])
        out[np.ix_(numbers, numbers)] = np.abs(pairwise_pearson(X)[0])

    def row(k: int) -> Any:
        return [_pair(columns[k], columns[j]) if j not in numbers or k not in numbers else np.nan for j in range(k)]

    for k, values in enumerate(work.each(row, range(p))):
        for j, v in enumerate(values):
            if not (k in numbers and j in numbers):
                out[k, j] = out[j, k] = v
    np.fill_diagonal(out, 1.0)
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


def clusters(
    table: Table,
    *,
    limit: float = 0.7,
    linkage: str = "average",
    features: Sequence[str] | None = None,
    seed: int = 0,
    workers: int | None = None,
) -> Findings:
    """Clusters of columns that go together, one of each to stay and why.

    Parameters
    ----------
    table : Table
    limit : float
        Association above which columns are joined: 1 - distance at which the tree is cut.
    linkage : "average" or "complete"
        Complete: every two of a cluster are associated above the limit.
    features : list of str, optional

    Returns
    -------
    Findings
        One row a column: cluster, size, stays, why. ``more["tree"]``: the merges, for `chaff.plots.correlation_map`.

    Examples
    --------
    >>> import chaff
    >>> frame = chaff.clusters(chaff.demo.table(rows=300), limit=0.8).frame
    >>> bool(frame.loc["protein_pct", "cluster"] == frame.loc["protein_nir_pct", "cluster"])
    True
    """
    import pandas as pd
    from scipy.cluster.hierarchy import fcluster

    if linkage not in ("average", "complete"):
        raise UsageError(f"linkage must be average or complete, not '{linkage}'")
    found = associations(table, limit=limit, features=features, workers=workers)
    names = list(found.frame.index)
    if len(names) < 2:
        raise UsageError("clusters need two columns or more")
    tree = tree_of(found.more["matrix"].to_numpy(float), linkage)
    label = fcluster(tree, 1.0 - limit, criterion="distance")
    claim = priorities(table.with_features(names), Setting.unfolded(table, Work(seed, workers)))
    rows = []
    for name, own in zip(names, label, strict=True):
        members = [n for n, g in zip(names, label, strict=True) if g == own]
        first = min(members, key=lambda n: claim[n].going())
        rows.append((int(own), len(members), name == first, _why(name, first, members, claim)))
    frame = pd.DataFrame(rows, columns=["cluster", "size", "stays", "why"], index=pd.Index(names, name="feature"))
    order = {c: k for k, c in enumerate(frame.sort_values("size", ascending=False, kind="stable")["cluster"].unique(), 1)}
    frame["cluster"] = frame["cluster"].map(order)
    merges = pd.DataFrame(tree, columns=["first", "second", "distance", "size"])
    notes = (*found.notes, f"{len(order)} clusters by {linkage} linkage at 1 - association = {1 - limit:g}")
    return Findings(
        "clusters",
        frame.sort_values("cluster", kind="stable"),
        "cluster",
        False,
        {"limit": limit, "linkage": linkage},
        notes,
        {"tree": merges, "matrix": found.more["matrix"]},
        {"cluster": "lower", "size": "higher"},
    )


def _why(name: str, first: str, members: list[str], claim: Any) -> str:
    from chaff.methods.overlap.priority import why_stays

    if len(members) == 1:
        return "alone"
    if name == first:
        others = [m for m in members if m != first]
        return f"stays for {len(others)} more: {why_stays(claim[first], min((claim[m] for m in others), key=lambda c: c.going()))}"
    return f"goes with {first}: {why_stays(claim[first], claim[name])}"


def tree_of(A: Any, linkage: str) -> Any:
    """Merges of an agglomerative tree on 1 - |association|."""
    from scipy.cluster.hierarchy import linkage as merge
    from scipy.spatial.distance import squareform

    distance = 1.0 - np.abs(np.nan_to_num(A))
    np.fill_diagonal(distance, 0.0)
    return merge(squareform((distance + distance.T) / 2, checks=False), method=linkage)
