"""What an additive model leaves of the target: every column by a smooth curve and by steps, fitted on other rows.

A pair can only be said to work together once each of its columns has been given all that it says alone; a straight line is not
enough, for the bend of one column shows in the cells of any partner that is correlated with it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.stats.logistic import fit_logistic, probabilities
from chaff.table.kinds import Column
from chaff.table.table import Table
from chaff.work import Work, task

KNOTS, STEPS = 8, 10
ROWS_A_KNOT = 25
MOST_LEVELS = 15
WIDEST = 30  # columns that get a curve: those that say most alone, beside a straight line for all
MOST_LINES = 300
LOOKED_AT = 8_192  # rows on which they are chosen
FITTED = 20_000  # rows that a fit for classes takes
PENALTIES = (1e-4, 1e-3, 1e-2, 1e-1, 1.0)
LEAST_SPREAD = 0.5  # of the typical spread: no row counts for more than twice as much as a typical one


@dataclass(frozen=True)
class Basis:
    """Functions of one column: learned without the target."""

    name: str
    category: bool
    knots: Floats
    cuts: Floats
    middle: float
    levels: Ints

    @classmethod
    def learn(cls, column: Column, rows: int) -> Basis:
        values = column.values[~column.missing]
        if column.kind != "number":
            counts = np.bincount(values.astype(int)) if values.size else np.zeros(1, int)
            order = np.argsort(-counts, kind="stable")
            own = order[counts[order] > 0][1 : MOST_LEVELS + 1]
            return cls(column.name, True, np.empty(0), np.empty(0), 0.0, own.astype(np.int64))
        if not values.size:
            return cls(column.name, False, np.empty(0), np.empty(0), 0.0, np.empty(0, np.int64))
        many = int(np.clip(rows // ROWS_A_KNOT, 1, KNOTS))
        knots = np.unique(np.quantile(values, np.linspace(0, 1, many + 2)))
        cuts = np.unique(np.quantile(values, np.linspace(0, 1, min(many, STEPS) + 2)[1:-1]))
        return cls(column.name, False, knots, cuts, float(np.median(values)), np.empty(0, np.int64))

    def straight(self) -> Basis:
        """A line in place of the curve; a category stays what it is."""
        return replace(self, knots=self.knots[[0, -1]] if self.knots.size > 1 else self.knots, cuts=self.cuts[:0])

    def of(self, values: Floats) -> Floats:
        """(functions, n); what is missing has a flag of its own and counts as the middle elsewhere."""
        missing = np.isnan(values)
        flag = [missing.astype(float)] if missing.any() else [np.zeros(values.size)]
        if self.category:
            return np.array([*flag, *((values == level).astype(float) for level in self.levels)])
        if self.knots.size < 2:
            return np.array(flag)
        x = np.where(missing, self.middle, values)
        low, high = self.knots[0], self.knots[-1]
        z = np.clip((x - low) / (high - low), 0.0, 1.0)
        curve = z[None]
        if self.knots.size > 2:
            from scipy.interpolate import BSpline

            whole = np.r_[[0.0] * 3, (self.knots - low) / (high - low), [1.0] * 3]
            curve = np.asarray(BSpline.design_matrix(z, whole, 3).todense())[:, 1:].T
        return np.vstack([*flag, curve, (x[None] > self.cuts[:, None]).astype(float)])


def left_over(table: Table, features: Sequence[str], parts: Ints, work: Work) -> Floats:
    """(targets, rows): the target less an additive model's prediction for rows that it has not seen, scaled to even spread.

    parts : int64 (rows,), the fold of each row.  Classes: Pearson residuals of an additive logistic model.
    """
    result = [Basis.learn(table.column(f), len(table)) for f in features]
    if len(result) > WIDEST:
        result = _by_strength(table, result, work)
    X = np.vstack([b.of(table.column(b.name).values) for b in result])
    X = X[X.std(1) > 0]
    X = (X - X.mean(1, keepdims=True)) / X.std(1, keepdims=True)
    if table.target.task == "classification":
        return _of_classes(X, table.targets, parts, work)
    rest = _of_number(X, table.targets[:, 0], parts)
    size = np.abs(rest)
    typical = float(np.median(size))
    expected = size - _of_number(X, size, parts)
    return np.asarray(rest / np.maximum(expected, LEAST_SPREAD * typical if typical > 0 else 1.0))[None]


def _by_strength(table: Table, result: list[Basis], work: Work) -> list[Basis]:
    """A curve for those that say most alone, a straight line for the next."""
    n = len(table)
    subset = np.arange(n) if n <= LOOKED_AT else np.sort(work.stream("additive rows").choice(n, LOOKED_AT, replace=False))
    y = table.targets[subset] - table.targets[subset].mean(0)
    gains = np.array(work.each(task(_gain, table, subset, y), result))
    order = np.argsort(-gains, kind="stable")[:MOST_LINES]
    return [result[k] for k in order[:WIDEST]] + [result[k].straight() for k in order[WIDEST:]]


def _gain(table: Table, subset: Ints, y: Floats, basis: Basis) -> float:
    """What the functions of one column explain, over what chance gives as many."""
    Z = basis.of(table.column(basis.name).values[subset])
    Z = Z - Z.mean(1, keepdims=True)
    values, vectors = np.linalg.eigh(Z @ Z.T)
    fine = values > 1e-9 * max(float(values[-1]), 1e-300)
    if not fine.any():
        return 0.0
    share = float((((vectors[:, fine].T @ (Z @ y)) ** 2) / values[fine, None]).sum() / max(float((y * y).sum()), 1e-300))
    return share - float(fine.sum()) / subset.size


def _of_number(X: Floats, y: Floats, parts: Ints) -> Floats:
    """y less ridge on the functions, each part predicted from the others; the penalty that predicts them best."""
    folds = [np.flatnonzero(parts == k) for k in range(int(parts.max()) + 1)]
    ones = np.vstack([X, np.ones(X.shape[1])])
    grams = [ones[:, f] @ ones[:, f].T for f in folds]
    sides = [ones[:, f] @ y[f] for f in folds]
    gram, side = np.sum(grams, 0), np.sum(sides, 0)
    best, least = y - y.mean(), float("inf")
    solved = []
    for G, s in zip(grams, sides, strict=True):
        values, vectors = np.linalg.eigh(_centred(gram - G))
        solved.append((values, vectors, gram - G, side - s))
    for penalty in PENALTIES:
        rest = np.empty(y.size)
        for (values, vectors, G, s), f in zip(solved, folds, strict=True):
            n, sums = G[-1, -1], G[-1, :-1]
            off = s[:-1] - sums * s[-1] / n
            b = vectors @ ((vectors.T @ off) / (np.maximum(values, 0.0) + penalty * n))
            rest[f] = y[f] - (s[-1] - sums @ b) / n - b @ X[:, f]
        loss = float((rest**2).sum())
        if loss < least:
            best, least = rest, loss
    answer: Floats = best
    return answer


def _centred(G: Floats) -> Floats:
    return np.asarray(G[:-1, :-1] - np.outer(G[:-1, -1], G[:-1, -1]) / G[-1, -1])


def _of_classes(X: Floats, targets: Floats, parts: Ints, work: Work) -> Floats:
    values, vectors = np.linalg.eigh(X @ X.T / X.shape[1])
    fine = values > 1e-6 * max(float(values[-1]), 1e-300)
    Z = (vectors[:, fine].T @ X).T  # uncorrelated, the same span: Newton's steps stay small and safe
    made = task(_pearson_residuals, Z, targets, parts, work.stream("additive fit rows").permutation(len(Z)))
    out = np.empty(targets.shape)
    for k, rest in enumerate(work.each(made, range(int(parts.max()) + 1))):
        out[parts == k] = rest
    return np.asarray(out.T)


def _pearson_residuals(Z: Floats, targets: Floats, parts: Ints, drawn: Ints, k: int) -> Floats:
    train = drawn[parts[drawn] != k][:FITTED]
    test = parts == k
    third = train.size // 3
    fits = []
    for penalty in PENALTIES[1:]:
        fit = fit_logistic(Z[train[third:]], targets[train[third:]], np.ones(train.size - third), penalty, tolerance=1e-4)
        P = _shares(Z[train[:third]], fit.coefficients)
        fits.append((float(((targets[train[:third]] - P) ** 2).sum()), penalty))
    fit = fit_logistic(Z[train], targets[train], np.ones(train.size), min(fits)[1], tolerance=1e-4)
    P = _shares(Z[test], fit.coefficients)
    return np.asarray((targets[test] - P) / np.sqrt(np.maximum(P * (1.0 - P), 0.01)))


def _shares(Z: Floats, coefficients: Floats) -> Floats:
    return probabilities(coefficients[0] + Z @ coefficients[1:])
