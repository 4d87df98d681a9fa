"""Variance inflation of all features at once, with who explains each; and how it falls along an elimination.

Which columns variance inflation is computed from, and a correlation matrix of them that fits together.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.errors import DataError
from chaff.evaluate.setting import Setting
from chaff.methods.overlap.correlations import ENOUGH, TELL, bytes_for, check_memory
from chaff.methods.overlap.overlap_data import OverlapData, complete_only
from chaff.results.findings import Better, Findings
from chaff.stats.inflation import dependent_columns, inverse_of, nearest_positive
from chaff.stats.inflation import inflation as inflation_of_matrix
from chaff.stats.tolerances import SINGULAR
from chaff.table.design import LEVELS_IN_LINEAR_FORM, Layout
from chaff.table.kinds import MISSING_LEVEL
from chaff.table.levels import TrainedLevels
from chaff.table.moments import Moments
from chaff.table.table import Table

if TYPE_CHECKING:
    import pandas as pd


GAPS = "missing values: correlations by maximum likelihood over all rows (EM)"
GAPS_WIDE = "missing values: pairwise-complete correlations"
MOST_WITH_GAPS = 1000  # columns, past which maximum likelihood takes too long
ROWS_A_COLUMN = 3  # shared by every pair, below which its correlation says too little beside all others
MOST_COLUMNS = 0.8  # a row, past which categories take no part
ABOVE = 0.5
LEAST_EIGENVALUE = 1e-6


@dataclass(frozen=True)
class InflationColumns:
    """Columns that take part, feature by feature."""

    plain: Floats
    """float64 (q, q): correlations as they were found."""
    C: Floats
    """The same; where there are gaps by maximum likelihood, so that they fit together."""
    used: Ints
    """int64 (q,): the design columns that they are."""
    starts: Ints
    """int64 (features + 1,)"""
    whole: Flags
    """Columns without a gap."""
    blank: Ints
    """Features that are not judged: they share too few rows with another, or have too many levels."""
    notes: tuple[str, ...]

    @property
    def columns(self) -> Ints:
        return np.arange(self.C.shape[0], dtype=np.int64)


def inflation_columns(
    moments: Moments, correlations: Floats, requested: bool, with_gaps: Callable[[Ints, Floats], Floats]
) -> InflationColumns:
    """A category leaves its commonest level and "(missing)" out; a column without spread takes no part, nor does a category of
    more than fifty levels unless it was `asked` for.

    with_gaps : (design columns, correlations to begin with) → correlations by maximum likelihood.
    """
    layout = moments.layout
    levels = TrainedLevels.learn(moments)
    owner = np.repeat(np.arange(levels.starts.size - 1), np.diff(levels.starts))
    named = [layout.columns[k] for k in levels.columns]
    is_gap = np.array([layout.category[f] and n.endswith(f" = {MISSING_LEVEL}") for n, f in zip(named, owner, strict=True)], bool)
    used, owner = levels.columns[~is_gap], owner[~is_gap]
    many = np.flatnonzero(layout.category & (np.diff(layout.starts) > LEVELS_IN_LINEAR_FORM)) if not requested else np.empty(0, np.int64)
    used, owner = used[~np.isin(owner, many)], owner[~np.isin(owner, many)]
    wide = _too_wide(used, owner, layout.category, moments.rows)
    used, owner = used[~np.isin(owner, wide)], owner[~np.isin(owner, wide)]
    few = _sharing_few(moments, used, owner)
    subset = ~np.isin(owner, few)
    used, owner = used[subset], owner[subset]
    plain = np.nan_to_num(correlations[np.ix_(used, used)])
    np.fill_diagonal(plain, 1.0)
    repeated = _repeated_levels(plain, owner, layout.category)
    if repeated.size:
        given = ", ".join(layout.columns[k] for k in used[repeated][:3])
        keep = np.setdiff1d(np.arange(used.size), repeated)
        used, owner, plain = used[keep], owner[keep], plain[np.ix_(keep, keep)]
    notes = (f"left out, a combination of the levels of other categories: {given}",) if repeated.size else ()
    C, shrunk = _fitting(plain, moments.complete)
    starts = np.searchsorted(owner, np.arange(levels.starts.size)).astype(np.int64)
    if not moments.complete and used.size > MOST_WITH_GAPS:
        notes = (GAPS_WIDE + (f", shrunk by {_share(shrunk)} to make the matrix positive definite" if shrunk else ""), *notes)
    elif not moments.complete and np.isin(used, layout.gaps).any():
        C, notes = with_gaps(used, C), (GAPS, *notes)
    for blank_columns, why in (
        (few, f"not assessed: fewer than {ROWS_A_COLUMN} rows per column in common with another"),
        (wide, "not assessed: their dummy columns nearly equal the number of rows"),
        (many, f"not assessed unless named: more than {LEVELS_IN_LINEAR_FORM} levels"),
    ):
        if blank_columns.size:
            notes = (*notes, f"{why}: {', '.join(layout.features[f] for f in blank_columns[:5])}")
    return InflationColumns(plain, C, used, starts, ~np.isin(used, layout.gaps), np.union1d(np.union1d(few, wide), many), notes)


def _too_wide(used: Ints, owner: Ints, category: Flags, rows: int) -> Ints:
    """Categories to be left out, the one of most levels first, until columns are well below the rows: a matrix of as many columns
    as rows turns everything into a combination of everything."""
    gone: list[int] = []
    counts = np.bincount(owner, minlength=category.size)
    while used.size and counts.sum() > MOST_COLUMNS * rows and (counts * category).max() > 0:
        worst = int(np.argmax(counts * category))
        gone.append(worst)
        counts[worst] = 0
    return np.array(sorted(gone), np.int64)


def _share(shrunk: float) -> str:
    return f"{shrunk:.1%}" if shrunk >= 0.001 else "less than 0.1%"


def _sharing_few(moments: Moments, used: Ints, owner: Ints) -> Ints:
    """Features to be left out so that every pair shares enough rows: the one with most such pairs first."""
    if moments.complete or not used.size:
        return np.empty(0, np.int64)
    shared = moments.N[np.ix_(used, used)] * (moments.rows / moments.weight)
    few = shared < ROWS_A_COLUMN * used.size
    np.fill_diagonal(few, np.diagonal(shared) < ROWS_A_COLUMN * used.size)
    gone: list[int] = []
    # Of a complete column with few rows it is not the gaps that are to blame.
    few &= shared < moments.rows * (1.0 - 1e-9)
    while few.any():
        worst = int(owner[np.lexsort((-np.diagonal(shared), few.sum(1)))[-1]])
        gone.append(worst)
        few[owner == worst] = False
        few[:, owner == worst] = False
    return np.array(sorted(gone), np.int64)


def _repeated_levels(C: Floats, owner: Ints, category: Flags) -> Ints:
    """Level columns that are exact combinations of earlier ones: a level that two categories share condemns neither."""
    levels = np.flatnonzero(category[owner])
    if levels.size < 2 or np.linalg.eigvalsh(C[np.ix_(levels, levels)])[0] > SINGULAR:
        return np.empty(0, np.int64)
    from chaff.stats.dependence import independent

    values, vectors = np.linalg.eigh(C[np.ix_(levels, levels)])
    rows = np.sqrt(np.maximum(values, 0.0))[:, None] * vectors.T  # columns with these products
    keep = independent(rows, np.sqrt(SINGULAR))
    gone = levels[~keep]
    # A category that lost all its levels says nothing of its own: there the dependency is its own and shows as infinite.
    emptied = np.setdiff1d(owner[gone], owner[levels[keep]])
    return np.asarray(gone[~np.isin(owner[gone], emptied)])


def _fitting(C: Floats, complete: bool) -> tuple[Floats, float]:
    """(a positive definite matrix, the share by which it was shrunk towards no correlation).

    The smallest eigenvalue comes to lie above zero by half of what it lay below, which tells how much of it was noise: so the
    VIFs are of the size that complete rows give, not whatever a matrix on the brink would.
    """
    if complete or not C.size:
        return C, 0.0
    least = float(np.linalg.eigvalsh(C)[0])
    if least >= -SINGULAR:
        return C, 0.0
    wanted = max(LEAST_EIGENVALUE, -ABOVE * least)
    share = (wanted - least) / (1.0 - least)
    return np.asarray((1.0 - share) * C + share * np.eye(C.shape[0])), share


def infinite(result: InflationColumns, complete: bool) -> Ints:
    """Features in an exact dependency; with gaps only among columns without any, for shrinking makes the others merely large."""
    subset = np.arange(result.plain.shape[0]) if complete else np.flatnonzero(result.whole)
    bad = subset[dependent_columns(result.plain[np.ix_(subset, subset)])] if subset.size else subset
    counts = np.diff(result.starts)
    owner = np.repeat(np.arange(counts.size), counts)
    hit = np.bincount(owner[bad], minlength=counts.size)
    return np.flatnonzero((hit > 0) & (hit == counts))


def among(result: InflationColumns, features: Ints) -> InflationColumns:
    """The same for fewer features."""
    picks = [np.arange(result.starts[f], result.starts[f + 1]) for f in features]
    flat = np.concatenate([*picks, np.empty(0, np.int64)]).astype(np.int64)
    starts = np.concatenate([[0], np.cumsum([p.size for p in picks])]).astype(np.int64)
    square = np.ix_(flat, flat)
    return replace(result, plain=result.plain[square], C=result.C[square], used=result.used[flat], starts=starts, whole=result.whole[flat])


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

    Of several classes that of their indicators together; NaN without a target. Read backwards: the features that stay, and one
    more at a time.
    """
    if not data.table.has_target:
        return np.full(len(went) + 1, np.nan)
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
