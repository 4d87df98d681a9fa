"""Which columns variance inflation is computed from, and a correlation matrix of them that fits together.

Gaps make trouble of three kinds: pairs with hardly any shared row, correlations over different rows that contradict one another,
and the same gap appearing as a level of several categories. None of them is collinearity.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.stats.inflation import dependent_columns
from chaff.stats.tolerances import SINGULAR
from chaff.table.kinds import MISSING_LEVEL
from chaff.table.layout import LEVELS_IN_LINEAR_FORM
from chaff.table.levels import TrainedLevels
from chaff.table.moments import Moments

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
