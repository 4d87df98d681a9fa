"""Linear relations among columns: exact and nearly exact equations, near-singular directions, principal components."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.stats.tolerances import EXACT, FLAT, ROUNDING


def triangle(Z: Floats) -> Floats:
    """A small matrix with the same cross-products: the triangle of a QR factorisation, or Z itself when it is wide."""
    return np.asarray(np.linalg.qr(Z, mode="r")) if len(Z) > Z.shape[1] else Z


@dataclass(frozen=True)
class Relation:
    """column = intercept + Σ coefficient × other, up to `residual` (standard deviations of the column)."""

    column: int
    others: Ints
    coefficients: Floats
    intercept: float
    residual: float


def relations(X: Floats, tolerance: float) -> list[Relation]:
    """Columns (n, p) that are combinations of earlier ones, up to `tolerance` standard deviations, as sparse as may be.

    The triangle of a QR factorisation stands for the rows; columns enter in their order, each orthogonalised twice against
    those that are independent so far.  Source: Björck, 1967; rank by the triangle's diagonal, Golub, 1965.
    """
    means, spread = X.mean(0), X.std(0)
    live = np.flatnonzero(spread > ROUNDING * np.maximum(np.abs(means), np.finfo(float).tiny))
    Z = (X[:, live] - means[live]) / spread[live] / np.sqrt(len(X))
    R = triangle(Z)
    keep = independent(R, tolerance)
    result = []
    for k in np.flatnonzero(~keep).tolist():
        used = _sparse(R, np.flatnonzero(keep[:k]), k, max(tolerance, EXACT))
        result.append(_in_units(X, live[used], int(live[k])))
    return result


def independent(R: Floats, tolerance: float) -> Flags:
    """Which columns of unit length are no combination of earlier ones: more than `tolerance` of them is left."""
    Q = np.empty((R.shape[0], min(R.shape)))
    keep = np.zeros(R.shape[1], bool)
    m = 0
    for k in range(R.shape[1]):
        v = R[:, k].copy()
        for _ in range(2):
            v -= Q[:, :m] @ (Q[:, :m].T @ v)
        size = float(np.linalg.norm(v))
        if size > tolerance and m < Q.shape[1]:
            Q[:, m] = v / size
            keep[k] = True
            m += 1
    return keep


def _sparse(R: Floats, basis: Ints, k: int, tolerance: float) -> Ints:
    """As few of the basis as still give column k: small weights go first, as long as the residual allows."""
    used = basis
    weights = np.linalg.lstsq(R[:, used], R[:, k], rcond=None)[0]
    used = used[np.abs(weights) > 1e-7 * max(float(np.abs(weights).max(initial=0.0)), 1e-300)]
    while used.size > 1:
        weights = np.linalg.lstsq(R[:, used], R[:, k], rcond=None)[0]
        fewer = np.delete(used, int(np.argmin(np.abs(weights))))
        rest = R[:, k] - R[:, fewer] @ np.linalg.lstsq(R[:, fewer], R[:, k], rcond=None)[0]
        if np.linalg.norm(rest) > tolerance:
            answer: Ints = used
            return answer
        used = fewer
    return used


def _in_units(X: Floats, others: Ints, k: int) -> Relation:
    """The equation in the columns' own units, coefficients that are all but round rounded where that fits as well."""
    means = X[:, others].mean(0)
    y = X[:, k]
    weights = np.linalg.lstsq(X[:, others] - means, y - y.mean(), rcond=None)[0]
    best = _residual(X, y, others, weights)
    for digits in range(7):
        plain: Floats = np.array(np.round(weights, digits), dtype=float)
        if _residual(X, y, others, plain) <= max(1.05 * best, FLAT):
            weights = plain
            break
    intercept = float(np.mean(y - X[:, others] @ weights))
    for digits in range(7):
        if abs(round(intercept, digits) - intercept) <= max(best, EXACT) * y.std():
            intercept = round(intercept, digits)
            break
    return Relation(k, others, weights, intercept, _residual(X, y, others, weights))


def _residual(X: Floats, y: Floats, others: Ints, weights: Floats) -> float:
    rest = y - X[:, others] @ weights
    return float(rest.std() / y.std())


@dataclass(frozen=True)
class Directions:
    """Near-singular directions, the worst last."""

    eigenvalues: Floats
    """(d,), falling."""
    indices: Floats
    """Condition index: square root of the largest eigenvalue over this one."""
    proportions: Floats
    """(d, p): share of each column's coefficient variance that this direction carries; columns add up to 1."""


def directions(X: Floats, centred: bool) -> Directions:
    """Condition indices and variance-decomposition proportions of columns (n, p).

    Columns are scaled to unit length, not centred, so that the intercept's part shows when it is among the columns;
    `centred` takes the means off first.  Source: Belsley, Kuh and Welsch, 1980.
    """
    Z = X - X.mean(0) if centred else X
    length = np.sqrt((Z * Z).sum(0))
    R = triangle(Z / np.where(length > 0, length, 1.0))
    _, s, Vt = np.linalg.svd(R, full_matrices=False)
    return directions_of(s, Vt)


def directions_of(s: Floats, Vt: Floats) -> Directions:
    """The same from singular values and right singular vectors."""
    floor = max(float(s[0]) * 1e-16, 1e-300)
    size = np.maximum(s, floor)
    phi = (Vt / size[:, None]) ** 2
    return Directions(s**2, s[0] / size, phi / phi.sum(0))


@dataclass(frozen=True)
class Components:
    """Principal components of a correlation matrix, the largest first."""

    eigenvalues: Floats
    loadings: Floats
    """(p, components): correlation of each column with each component."""


def components(C: Floats) -> Components:
    """Source: Pearson, 1901; Hotelling, 1933. The largest loading of each component is positive."""
    values, vectors = np.linalg.eigh(C)
    values, vectors = np.maximum(values[::-1], 0.0), vectors[:, ::-1]
    top = np.abs(vectors).argmax(0)
    vectors = vectors * np.sign(vectors[top, np.arange(vectors.shape[1])])
    return Components(values, vectors * np.sqrt(values))
