"""Variance inflation factors from one factorisation, and their elimination by updates."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.kernels.inflation import eliminate, inflation_of
from chaff.stats.blas import mirror
from chaff.stats.tolerances import INVOLVED, SINGULAR, TWINS


def inverse_of(C: Floats) -> Floats | None:
    """Inverse of a positive definite matrix by Cholesky, or None when it is numerically singular."""
    from scipy.linalg.lapack import dpotrf, dpotri

    if not C.size:
        return C.copy()
    factor, info = dpotrf(C, lower=1)
    if info or np.min(np.diagonal(factor)) ** 2 < SINGULAR:
        return None
    # dpotri fills one triangle only; it works in place, so nothing of size p x p is allocated twice.
    inverse, info = dpotri(factor, lower=1, overwrite_c=1)
    if info:
        return None
    return mirror(np.ascontiguousarray(inverse.T))  # the column-major lower triangle is the row-major upper one


def dependent_columns(C: Floats) -> Ints:
    """Every column that takes part in an exact linear dependency, not only the last one found.

    Pivoted Cholesky splits the columns into independent ones and the rest; a column of the rest is a combination of those
    independent ones that have a weight in it.
    """
    from scipy.linalg import solve_triangular
    from scipy.linalg.lapack import dpstrf

    factor, pivots, rank, _ = dpstrf(C, lower=1, tol=SINGULAR)
    order = pivots - 1
    if rank == C.shape[0]:
        return np.empty(0, np.int64)
    head = np.tril(factor[:rank, :rank])
    tail = factor[rank:, :rank]
    weights = solve_triangular(head, tail.T, lower=True, trans="T")
    involved = np.abs(weights).max(1) > INVOLVED * max(1.0, float(np.abs(weights).max()))
    return np.sort(np.concatenate([order[:rank][involved], order[rank:]])).astype(np.int64)


def nearest_positive(C: Floats, floor: float = 1e-8) -> Floats:
    """A correlation matrix of pairwise entries made positive definite: eigenvalues clipped, diagonal back to 1.

    Source: Rebonato and Jaeckel, 1999 (spectral decomposition).
    """
    values, vectors = np.linalg.eigh(C)
    if values[0] >= floor:
        return C
    fixed = (vectors * np.maximum(values, floor)) @ vectors.T
    scale = 1.0 / np.sqrt(np.diagonal(fixed))
    out: Floats = fixed * scale[:, None] * scale[None, :]
    np.fill_diagonal(out, 1.0)
    return out


@dataclass(frozen=True)
class Elimination:
    """What went, in order, and what is left."""

    went: Ints
    vif: Floats
    """VIF of each at the moment it went; infinite for a member of an exact dependency."""
    kept: Ints
    kept_vif: Floats
    """Fresh values of those that stay, from a factorisation of their own."""


def block_determinants(C: Floats, starts: Ints, columns: Ints) -> Floats:
    """det R_bb of every feature's own block; 1 for a single column."""
    own = np.ones(starts.size - 1)
    for f in np.flatnonzero(np.diff(starts) > 1):
        block = columns[starts[f] : starts[f + 1]]
        own[f] = np.linalg.det(C[np.ix_(block, block)])
    return own


def inflation(C: Floats, starts: Ints, columns: Ints) -> Floats:
    """(Generalised) VIF of every feature, on the scale of one column; infinite in an exact dependency.

    Parameters
    ----------
    C : float64 (q, q)
        Correlation of the columns.
    starts, columns : int64
        Columns of feature f: ``columns[starts[f]:starts[f + 1]]``.

    Notes
    -----
    All at once as the diagonal of the inverse; for a feature of several columns det R_bb det P_bb, to the power 1 / df.
    Source: Fox and Monette, 1992.
    """
    P = inverse_of(C)
    if P is None:
        return _with_infinite(C, starts, columns)
    return _of_inverse(P, C, starts, columns)


def _with_infinite(C: Floats, starts: Ints, columns: Ints) -> Floats:
    """Infinite where every column of a feature is in an exact dependency; the others from what is left without those.

    One level that others fix does not condemn a category.
    """
    m = starts.size - 1
    out = np.full(m, np.nan)
    bad = dependent_columns(C)
    condemned = np.array([starts[f + 1] > starts[f] and np.isin(columns[starts[f] : starts[f + 1]], bad).all() for f in range(m)], bool)
    out[condemned] = np.inf
    left = np.flatnonzero(~condemned)
    picks = [columns[starts[f] : starts[f + 1]] for f in left]
    flat = np.concatenate([*picks, np.empty(0, np.int64)]).astype(np.int64)
    inner = np.concatenate([[0], np.cumsum([p.size for p in picks])]).astype(np.int64)
    if condemned.any() and flat.size:
        sub = C[np.ix_(flat, flat)]
        P = inverse_of(sub)
        if P is not None:
            out[left] = _of_inverse(P, sub, inner, np.arange(flat.size, dtype=np.int64))
    return out


def _of_inverse(P: Floats, C: Floats, starts: Ints, columns: Ints) -> Floats:
    """VIFs from the inverse: its diagonal, and for features of several columns the ratio of determinants."""
    size = np.diff(starts)
    out = np.ones(size.size)
    out[size == 1] = np.diagonal(P)[columns[starts[:-1][size == 1]]]
    if (size > 1).any():
        own = block_determinants(C, starts, columns)
        L = np.empty((int(size.max()),) * 2)
        for f in np.flatnonzero(size > 1):
            out[f] = inflation_of(P, f, starts, columns, own, L)
    return out


def prune_inflation(
    C: Floats, starts: Ints, columns: Ints, limit: float, order_key: Ints, protected: Flags, by_claim: bool = False
) -> Elimination:
    """Remove the feature with the largest VIF, one at a time, until none over `limit` may go.

    Parameters
    ----------
    C, starts, columns
        As in `inflation`.
    limit : float
        VIF over which a feature goes.
    order_key : int64 (m,)
        Among ties (members of an exact dependency all have infinite VIF) the largest key goes first.
    protected : bool (m,)
        Features that stay whatever their VIF.
    by_claim : bool
        Of all over the limit the one with the largest key goes, however large its VIF.

    Notes
    -----
    Every removal is a rank-one update of the inverse. Updates carry the error of the first inverse along and add none, so
    one fresh inverse at the end is enough: its values are reported, and if it finds one over the limit the loop goes on.
    """
    m = starts.size - 1
    left = np.arange(m)
    went: list[int] = []
    values: list[float] = []

    def part(features: Ints) -> tuple[Floats, Ints, Ints]:
        if features.size == m and columns.size == C.shape[0] and (columns == np.arange(columns.size)).all():
            return C, starts, columns
        picks = [columns[starts[f] : starts[f + 1]] for f in features]
        inner = np.concatenate([[0], np.cumsum([len(c) for c in picks])]).astype(np.int64)
        flat = np.concatenate(picks).astype(np.int64) if picks else np.empty(0, np.int64)
        return C[np.ix_(flat, flat)], inner, np.arange(flat.size, dtype=np.int64)

    def leave(feature: int, vif: float) -> None:
        nonlocal left
        went.append(feature)
        values.append(vif)
        left = left[left != feature]

    while True:
        sub, inner, flat = part(left)
        P = inverse_of(sub)
        if P is None:
            infinite = [f for f in left[np.isinf(inflation(sub, inner, flat))] if not protected[f]]
            if not infinite:
                return Elimination(np.array(went, int), np.array(values), left, inflation(sub, inner, flat))
            leave(int(max(infinite, key=lambda f: order_key[f])), np.inf)
            continue
        fresh = _of_inverse(P, sub, inner, flat)
        removable = ~protected[left]
        if not (removable & (fresh > limit)).any():
            return Elimination(np.array(went, int), np.array(values), left, fresh)
        own = block_determinants(sub, inner, flat)
        gone, value = np.empty(left.size, np.int64), np.empty(left.size)
        count = eliminate(P, inner, flat, own, removable, order_key[left].astype(np.int64), limit, TWINS, by_claim, gone, value)
        went += left[gone[:count]].tolist()
        values += value[:count].tolist()
        left = np.delete(left, gone[:count])
