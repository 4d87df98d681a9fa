"""Variance inflation of all features at once, with who explains each; and how it falls along an elimination."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import DataError
from chaff.evaluate.setting import Setting
from chaff.methods.overlap.inflation_columns import MOST_WITH_GAPS, infinite, inflation_columns
from chaff.methods.overlap.number_matrix import ENOUGH, TELL, bytes_for, check_memory
from chaff.methods.overlap.overlap_data import OverlapData, complete_only
from chaff.results.findings import Better, Findings
from chaff.stats.inflation import dependent_columns, inverse_of, nearest_positive
from chaff.stats.inflation import inflation as inflation_of_matrix
from chaff.stats.tolerances import SINGULAR
from chaff.table.layout import Layout
from chaff.table.moments import Moments
from chaff.table.table import Table

if TYPE_CHECKING:
    import pandas as pd

FOREMOST = 3
STEADY = 1e-3
MANY_GAPS = 0.5
MANY_COLUMNS = 0.5  # a row, from which VIFs are mostly chance
WAYS: dict[str, Better] = {"vif": "lower", "vif_complete": "lower", "r_squared": "lower", "tolerance": "higher"}
NOTE = ("VIFs include an intercept; without one they are larger and not comparable",)


def inflation(data: OverlapData) -> Findings:
    """See `chaff.inflation`."""
    import pandas as pd

    table, moments = data.table, _checked_moments(data)
    cols = inflation_columns(moments, data.correlations, data.explicit, data.correlations_with_gaps)
    C, starts = cols.C, cols.starts
    vif = inflation_of_matrix(C, starts, cols.columns)
    vif[infinite(cols, moments.complete)] = np.inf
    vif[cols.blank] = np.nan
    rough = [f for f in table.features if table.column(f).missing.mean() > MANY_GAPS and f not in _names(table, cols.blank)]
    given: tuple[str, ...] = cols.notes
    if rough and not moments.complete:
        given = (*given, f"over 50 % missing, VIF unreliable: {', '.join(rough[:5])}")
    if C.shape[0] > MANY_COLUMNS * len(table):
        given = (*given, f"{C.shape[0]:,} columns on {len(table):,} rows: nearly every one is a combination of the others by chance")
    with np.errstate(divide="ignore"):
        columns_of = {"vif": vif, "tolerance": 1.0 / vif, "r_squared": 1.0 - 1.0 / vif, "df": np.diff(starts)}
    frame = pd.DataFrame(columns_of, index=pd.Index(table.features, name="feature"))
    frame["explained_by"] = explained_by(C, starts, list(table.features))
    if not moments.complete:
        given = (*given, *_put_complete(frame, data))
    need = bytes_for(moments.layout.width, len(table))
    big = (f"needs about {need / 1e9:.1f} GB",) if need > TELL else ()
    notes = (f"{len(table):,} rows", *NOTE, *big, *given)
    return Findings("inflation", frame, "vif", WAYS, {}, notes, {}, "worst")


def _put_complete(frame: pd.DataFrame, data: OverlapData) -> tuple[str, ...]:
    """VIFs of complete rows beside those of all rows, where enough of them are left."""
    try:
        complete = complete_only(data.table)
    except DataError:
        return ()
    if len(complete) < ENOUGH * data.moments.layout.width or len(complete) == len(data.table):
        return ()
    frame["vif_complete"] = inflation(OverlapData(complete, Setting.unfolded(complete, data.work), data.explicit)).frame["vif"]
    return (f"vif_complete: of the {len(complete):,} rows without a gap in a number",)


def _checked_moments(data: OverlapData) -> Moments:
    check_memory(Layout.of(data.table, data.table.features).width, len(data.table))
    return data.moments


def _names(table: Table, features: Any) -> set[str]:
    return {table.features[f] for f in features}


def explained_by(C: Any, starts: Any, names: list[str]) -> list[str]:
    """For every feature, the few others that carry the regression of it on all of them: β r, as a share of its R²."""
    p = C.shape[0]
    if p < 2:
        return [""] * len(names)
    # A little ridge: in an exact dependency the shares would otherwise be differences of huge numbers.
    P = np.linalg.inv(C + STEADY * np.eye(p))
    beta = -P / np.diagonal(P)[:, None]
    np.fill_diagonal(beta, 0.0)
    parts = beta * C
    owner = np.repeat(np.arange(len(names)), np.diff(starts))
    out = []
    for f in range(len(names)):
        own = np.arange(starts[f], starts[f + 1])
        if not own.size:
            out.append("")
            continue
        k = int(own[np.argmax(np.diagonal(P)[own])])
        share = np.bincount(owner, np.where(np.isin(np.arange(p), own), 0.0, parts[k]), len(names))
        whole = float(share.sum())
        if whole < 0.1:
            out.append("")
            continue
        first = np.argsort(-np.abs(share), kind="stable")[:FOREMOST]
        out.append(", ".join(f"{names[g]} {share[g] / whole:.0%}" for g in first if abs(share[g]) >= 0.05 * abs(whole)))
    return out


def with_path(result: Findings, data: OverlapData) -> Findings:
    """The findings of an elimination with the VIF of every feature after every move, the largest one left, and R² of all features
    on the target before and after."""
    went = result.more["trail"]["feature"].tolist()
    path = vif_path(data, went)
    trail = result.more["trail"].copy()
    after = path.iloc[:, 1:]
    trail["largest_left"] = [float(after[c].max()) if after[c].notna().any() else np.nan for c in after.columns]
    trail["whose"] = [str(after[c].idxmax()) if after[c].notna().any() else "" for c in after.columns]
    r2 = r_squared_path(data, went)
    trail["r_squared_before"], trail["r_squared_after"] = r2[:-1], r2[1:]
    return replace(result, notes=(*result.notes, *NOTE), more={"trail": trail, "path": path})


def r_squared_path(data: OverlapData, went: list[str]) -> Floats:
    """float64 (moves + 1,): R² of the target on all features that are left, at the start and after every move.

    Of several classes that of their indicators together. Read backwards: the features that stay, and one more at a time.
    """
    moments, names = data.moments, list(data.table.features)
    cols = inflation_columns(moments, data.correlations, data.explicit, data.correlations_with_gaps)
    width, targets = moments.layout.width, moments.layout.targets
    used = np.append(cols.used, np.arange(width, width + targets))
    C = data.correlations[np.ix_(used, used)]
    if not moments.complete:
        C = data.correlations_with_gaps(used, None) if cols.used.size <= MOST_WITH_GAPS else nearest_positive(np.nan_to_num(C))
    spread = np.nan_to_num(data.table.targets.var(0))
    share = spread / spread.sum() if spread.sum() > 0 else np.full(targets, np.nan)
    parts = [[f for f in names if f not in went], *[[f] for f in reversed(went)]]
    A = np.nan_to_num(C.copy())
    out = []
    for part in parts:
        for f in part:
            for k in range(int(cols.starts[names.index(f)]), int(cols.starts[names.index(f) + 1])):
                if A[k, k] > SINGULAR:
                    A -= np.outer(A[:, k], A[k]) / A[k, k]
        out.append(1.0 - float(share @ np.diagonal(A)[-targets:]))
    return np.array(out[::-1])


def vif_path(data: OverlapData, went: list[str]) -> pd.DataFrame:
    """VIF of every feature at the start and after every move, by updates of one inverse once nothing is singular."""
    import pandas as pd

    moments, names = data.moments, list(data.table.features)
    cols = inflation_columns(moments, data.correlations, data.explicit, data.correlations_with_gaps)
    plain, C, starts, sure = cols.plain, cols.C, cols.starts, cols.whole
    all_owners = np.repeat(np.arange(len(names)), np.diff(starts))
    exact = not moments.complete
    left = list(range(len(names)))
    out = np.full((len(names), len(went) + 1), np.nan)
    P, owner = None, np.empty(0, np.int64)
    for move in range(len(went) + 1):
        if move:
            gone = names.index(went[move - 1])
            left.remove(gone)
            if P is not None:
                for k in np.flatnonzero(owner == gone)[::-1].tolist():
                    P = P - np.outer(P[:, k], P[k]) / P[k, k]
                    keep = np.arange(P.shape[0]) != k
                    P, owner = P[np.ix_(keep, keep)], owner[keep]
        flat = np.concatenate([np.arange(starts[f], starts[f + 1]) for f in left] or [np.empty(0, int)]).astype(np.int64)
        if P is None:
            P = inverse_of(C[np.ix_(flat, flat)])
            owner = np.concatenate([np.full(starts[f + 1] - starts[f], f) for f in left] or [np.empty(0, int)]).astype(np.int64)
        inner = np.concatenate([[0], np.cumsum([starts[f + 1] - starts[f] for f in left])]).astype(np.int64)
        if P is None or (np.diff(inner) > 1).any():
            out[left, move] = inflation_of_matrix(C[np.ix_(flat, flat)], inner, np.arange(flat.size))
        else:
            out[owner, move] = np.diagonal(P)
        if exact:  # clipping makes an exact dependency merely large
            subset = flat[sure[flat]]
            bad = subset[dependent_columns(plain[np.ix_(subset, subset)])] if subset.size else subset
            hit = np.bincount(all_owners[bad], minlength=len(names))
            out[(hit > 0) & (hit == np.diff(starts)), move] = np.inf
            exact = bad.size > 0
    out[cols.blank] = np.nan
    return pd.DataFrame(out, index=pd.Index(names, name="feature"), columns=["start", *went])
