"""Correlation matrices of rank statistics, partial correlations, and shrinkage where columns outnumber rows."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats
from chaff.stats.correlation import correlation_from_products
from chaff.stats.ranks import average_ranks, kendall, ranked
from chaff.stats.tolerances import ROUNDING, SINGULAR

FEWEST_SHARED = 3


def pearson_matrix(X: Floats) -> Floats:
    """Pearson r of complete columns, float64 (p, n) → (p, p); NaN for columns without spread."""
    Z = X - X.mean(1, keepdims=True)
    scale = np.sqrt((Z * Z).sum(1))
    rounding = ROUNDING * np.sqrt((X * X).sum(1))
    with np.errstate(all="ignore"):
        Z /= np.where(scale > rounding, scale, np.nan)[:, None]
    out = np.clip(Z @ Z.T, -1.0, 1.0)
    np.fill_diagonal(out, np.where(np.isnan(np.diagonal(out)), np.nan, 1.0))
    return np.asarray(out)


def pairwise_pearson(X: Floats) -> tuple[Floats, Floats]:
    """(Pearson r, rows of each pair) of columns (p, n) with NaN for missing, over the rows where both are present."""
    there = (~np.isnan(X)).astype(float)
    shared = there @ there.T
    if there.all():
        return pearson_matrix(X), shared
    middle = np.array([np.median(x[~np.isnan(x)]) if (~np.isnan(x)).any() else 0.0 for x in X])
    Z = np.nan_to_num(X - middle[:, None])
    return correlation_from_products(shared, Z @ there.T, (Z * Z) @ there.T, Z @ Z.T), shared


def spearman_matrix(X: Floats) -> Floats:
    """Spearman's rho, float64 (p, n) with NaN for missing: over the rows where both are present, ranked again there."""
    gaps = np.asarray(np.isnan(X).any(1))
    ranks = np.array([average_ranks(x) if not g else np.zeros(x.size) for x, g in zip(X, gaps, strict=True)]).reshape(X.shape)
    out = pearson_matrix(ranks) if len(X) else np.empty((0, 0))
    for i in np.flatnonzero(gaps).tolist():
        for j in range(len(X)):
            out[i, j] = out[j, i] = _rho(X[i], X[j]) if i != j else 1.0
    return out


def _rho(x: Floats, y: Floats) -> float:
    both = ~np.isnan(x) & ~np.isnan(y)
    if both.sum() < FEWEST_SHARED:
        return float("nan")
    return float(pearson_matrix(np.stack([average_ranks(x[both]), average_ranks(y[both])]))[0, 1])


def kendall_column(X: Floats, i: int) -> Floats:
    """tau-b of column i with every later one, over the rows where both are present."""
    out = np.full(len(X), np.nan)
    for j in range(i + 1, len(X)):
        both = ~np.isnan(X[i]) & ~np.isnan(X[j])
        out[j] = kendall(ranked(X[i][both]), ranked(X[j][both]))[0]
    return out


def partial_correlations(C: Floats) -> Floats:
    """Correlation of each pair when all other columns are held fixed, from the inverse; pseudo-inverse when singular."""
    try:
        P = np.linalg.inv(C) if np.linalg.cond(C) < 1e12 else np.linalg.pinv(C, rcond=SINGULAR, hermitian=True)
    except np.linalg.LinAlgError:
        P = np.linalg.pinv(C, rcond=SINGULAR, hermitian=True)
    d = np.sqrt(np.abs(np.diagonal(P)))
    with np.errstate(all="ignore"):
        out = -P / np.outer(d, d)
    np.fill_diagonal(out, 1.0)
    return np.asarray(np.clip(out, -1.0, 1.0))


def shrinkage(X: Floats) -> float:
    """Share λ by which the off-diagonal correlations are best shrunk towards 0, for complete columns (p, n).

    Source: Schäfer and Strimmer, 2005 (after Ledoit and Wolf, 2003).
    """
    p, n = X.shape
    spread = X.std(1, ddof=1, keepdims=True)
    Z = (X - X.mean(1, keepdims=True)) / np.where(spread > 0, spread, 1.0)
    mean = Z @ Z.T / n
    square = (Z * Z) @ (Z * Z).T / n
    off = ~np.eye(p, dtype=bool)
    variance = n / (n - 1.0) ** 3 * n * (square - mean**2)[off].sum()
    size = ((n / (n - 1.0) * mean)[off] ** 2).sum()
    return float(np.clip(variance / size, 0.0, 1.0)) if size > 0 else 1.0
