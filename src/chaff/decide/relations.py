"""Relations: how each kept column went with the target on the training rows, so that new rows can be asked whether it still does.

Two looks at each: the mean of the target in bins of the column, and the column's slope beside the other number columns. The target
stands as its ranks (or as the share of each class), so that a shift of the whole target is no change of a relation.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.decide.selection_parts import RelationPart
from chaff.stats.paired_loss import Units
from chaff.stats.ranks import average_ranks
from chaff.stats.tail_probabilities import chi_square_upper, normal_upper
from chaff.table.kinds import Column
from chaff.table.table import Table

BINS = 5
MOST_LEVELS = 12
FEWEST_IN_BIN = 10
MOST_SLOPES = 0.2  # columns a row, over which slopes say nothing


def relations_of(table: Table, features: Sequence[str]) -> dict[str, RelationPart]:
    """Feature → its relation to the target, with errors that follow groups, order and weights."""
    columns = {f: table.column(f) for f in features if table.kind(f) in ("number", "binary", "category")}
    targets, units = _targets(table, table.target.classes), table.units or Units()
    slopes = _slopes(columns, targets, units)
    out = {}
    for f, column in columns.items():
        edges, levels = ([], _levels(column)) if column.levels else (_edges(column), [])
        means, errors, rows = _in_bins(_bins(edges, levels, column), targets, units)
        slope, error = slopes.get(f, (np.zeros(0), np.zeros(0)))
        out[f] = RelationPart(
            edges=edges, levels=levels, means=means.tolist(), errors=errors.tolist(), rows=rows, slopes=slope.tolist(),
            slope_errors=error.tolist(),
        )  # fmt: skip
    return out


def changed_relations(then: Mapping[str, RelationPart], classes: Sequence[str], table: Table, level: float) -> dict[str, float]:
    """Feature → p (Holm over all that was asked) for those whose relation to the target is not what it was."""
    targets, units = _targets(table, classes), table.units or Units()
    there = {f: part for f, part in then.items() if f in table.features and len(part.means[0]) == targets.shape[1]}
    there = {f: part for f, part in there.items() if bool(part.levels) == bool(table.column(f).levels)}
    columns = {f: table.column(f) for f in there}
    slopes = _slopes({f: c for f, c in columns.items() if there[f].slopes}, targets, units)
    requested = {}
    for f, part in there.items():
        requested[f, "bins"] = _other_bins(part, *_in_bins(_bins(part.edges, part.levels, columns[f]), targets, units))
        if f in slopes and len(part.slopes) == targets.shape[1]:
            requested[f, "slope"] = _other_slope(part, *slopes[f])
    known = sorted(((p, f) for (f, _), p in requested.items() if p == p), key=lambda t: t[0])
    out: dict[str, float] = {}
    for k, (p, f) in enumerate(known):
        held = min(1.0, p * (len(known) - k))
        if held > level:
            break
        out.setdefault(f, held)
    return out


def _targets(table: Table, classes: Sequence[str]) -> Floats:
    """float64 (rows, k): ranks within (0, 1) of a number, 0 and 1 for each class but the last."""
    if not classes:
        return np.asarray(average_ranks(table.y) / (len(table) + 1.0))[:, None]
    own = np.array([table.target.classes.index(c) if c in table.target.classes else -1 for c in classes[:-1]])
    return np.asarray(table.y[:, None] == own, float)


def _edges(column: Column) -> list[float]:
    present = column.values[~column.missing]
    return sorted(set(np.quantile(present, np.arange(1, BINS) / BINS).tolist())) if present.size else []


def _levels(column: Column) -> list[str]:
    counts = np.bincount(column.values[~column.missing].astype(int), minlength=len(column.levels))
    return [column.levels[k] for k in np.argsort(-counts, kind="stable")[:MOST_LEVELS] if counts[k]]


def _bins(edges: Sequence[float], levels: Sequence[str], column: Column) -> list[Flags]:
    """Rows of each bin; the last one holds the gaps."""
    gap = column.missing
    if levels:
        words = np.array([*column.levels, ""], object)[np.where(gap, len(column.levels), np.nan_to_num(column.values)).astype(int)]
        return [*((words == w) & ~gap for w in levels), gap]
    place = np.searchsorted(np.array(edges), np.where(gap, 0.0, column.values), side="left")
    return [*((place == k) & ~gap for k in range(len(edges) + 1)), gap]


def _in_bins(bins: Sequence[Flags], targets: Floats, units: Units) -> tuple[Floats, Floats, list[int]]:
    """(means less the mean of all, their standard errors, rows) of every bin and target; zero where there are no rows."""
    means, errors = np.zeros((len(bins), targets.shape[1])), np.zeros((len(bins), targets.shape[1]))
    w = np.ones(len(targets)) if units.weights is None else units.weights
    for b, inside in enumerate(bins):
        share = float(w[inside].sum() / w.sum())
        for k in range(targets.shape[1]) if share else ():
            y = targets[:, k]
            centre, own = float(np.average(y, weights=w)), float(np.average(y[inside], weights=w[inside]))
            influence = np.where(inside, (y - own) / share, 0.0) - (y - centre)
            means[b, k] = own - centre
            least = 0.25 / max(int(inside.sum()), 1)  # a share of none is not known without error
            errors[b, k] = np.hypot(units.mean(influence).se, least)
    return means, errors, [int(inside.sum()) for inside in bins]


def _other_bins(part: RelationPart, means: Floats, errors: Floats, rows: Sequence[int]) -> float:
    """p that every bin's mean is what it was; NaN where too few have rows then and now."""
    able = np.flatnonzero(np.minimum(part.rows, rows) >= FEWEST_IN_BIN)
    if able.size < 2:
        return float("nan")
    d = means[able] - np.array(part.means)[able]
    z2 = (d**2 / (errors[able] ** 2 + np.array(part.errors)[able] ** 2)).sum(0)
    p = chi_square_upper(z2, np.full(z2.size, able.size - 1.0 if able.size == len(rows) else float(able.size)))
    answer: float = min(1.0, float(np.min(p)) * z2.size)
    return answer


def _slopes(columns: Mapping[str, Column], targets: Floats, units: Units) -> dict[str, tuple[Floats, Floats]]:
    """Number feature → (slopes, standard errors) of least squares on the ranks of all of them together, float64 (k,)."""
    numbers = [f for f, c in columns.items() if not c.levels and np.unique(c.values[~c.missing]).size > 1]
    if not numbers or len(numbers) > MOST_SLOPES * len(targets):
        return {}
    w = np.ones(len(targets)) if units.weights is None else units.weights
    X = np.column_stack([_ranks(columns[f]) for f in numbers])
    X = X - np.average(X, axis=0, weights=w)
    Y = targets - np.average(targets, axis=0, weights=w)
    inverse = np.linalg.pinv((X * w[:, None]).T @ X)
    slopes = inverse @ (X * w[:, None]).T @ Y
    out = {}
    for j, f in enumerate(numbers):
        along = X @ inverse[:, j] * float(w.sum())
        errors = [units.mean(along * (Y[:, k] - X @ slopes[:, k])).se for k in range(Y.shape[1])]
        out[f] = slopes[j], np.array(errors)
    return out


def _ranks(column: Column) -> Floats:
    out = np.full(column.values.size, 0.5)
    present = ~column.missing
    out[present] = average_ranks(column.values[present]) / (present.sum() + 1.0)
    return out


def _other_slope(part: RelationPart, slope: Floats, error: Floats) -> float:
    spread = np.hypot(error, part.slope_errors)
    z = np.abs(slope - part.slopes) / np.where(spread > 0, spread, np.inf)
    return min(1.0, 2.0 * float(np.min(normal_upper(z))) * z.size)
