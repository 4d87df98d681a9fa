"""The best sets of each size by training error, from cross-products."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.kernels.best_subsets import note_set, search_parts, settle
from chaff.stats.tolerances import SINGULAR

MOST_FEATURES = 60  # a set is one 64-bit number
TABLES_AT_A_TIME = 100_000


@dataclass(frozen=True)
class BestSubsets:
    """Ascending in size; of each size the best first."""

    sizes: Ints
    """int64 (found,): features that are free, the fixed ones not counted."""
    rss: Floats
    members: tuple[tuple[int, ...], ...]
    """Numbers of the free features."""


def best_subsets(
    A: Floats, starts: Ints, fixed: Ints, free: Ints, targets: int, sets: int = 1, smallest: int = 0, largest: int | None = None,
    between: Callable[[], None] = lambda: None,
) -> BestSubsets:  # fmt: skip
    """Best sets of each size.

    Parameters
    ----------
    A : float64 (q + targets, q + targets)
        Cross-products about the means of columns and targets, a ridge penalty on the diagonal where there is one.
    starts : int64 (features + 1,)
        Columns of each feature.
    fixed, free : int64
        Features that are in every set, and those that are chosen among. Free ones of which no column adds anything to the others are
        left out.
    sets : int
        So many of each size.
    smallest, largest : int
        Sizes that are wanted, of free features.
    between : callable
        Called now and then; may raise to end the search.

    Notes
    -----
    The error is the least of Σ(y − Xβ)² plus the penalty. A bound is what a superset has left.
    """
    columns, kept = _regular(A, starts, fixed, free, targets)
    widths = np.array([np.count_nonzero(columns[:, 1] == f) for f in kept], np.int64)
    p, held = len(kept), columns[columns[:, 1] < 0, 0]
    where = np.array([c for f in kept for c, of in columns if of == f], np.int64)
    W, B, rss = _inverse_form(A, held, where, targets)
    most = p if largest is None else min(largest, p)
    q = max(len(where), 1)
    best_rss, best_mask = np.full((p + 1, sets), np.inf), np.zeros((p + 1, sets), np.uint64)
    state = _State.of(p, q, targets, W, B, rss, widths)
    if p <= most:
        note_set(p, rss, state.mask[0], best_rss, best_mask)
    for size, error, mask in _greedy(A, held, where, widths, targets):
        if smallest <= size <= most:
            note_set(size, error, mask, best_rss, best_mask)
    depth = 0 if p else -1
    while depth >= 0:
        between()
        depth = search_parts(*state.arrays, depth, widths, smallest, most, best_rss, best_mask, TABLES_AT_A_TIME)
    return _as_result(best_rss, best_mask, kept)


@dataclass
class _State:
    """Room for the search: one table a depth."""

    arrays: tuple[np.ndarray, ...]
    mask: np.ndarray

    @classmethod
    def of(cls, p: int, q: int, targets: int, W: Floats, B: Floats, rss: float, widths: Ints) -> _State:
        tables, coefficients = np.empty((p + 1, q, q)), np.empty((p + 1, q, targets))
        errors, rise = np.empty(p + 1), np.empty((p + 1, max(p, 1)))
        features, begin = np.zeros((2, p + 1, max(p, 1)), np.int64)
        count, fixed, at = np.zeros((3, p + 1), np.int64)
        mask = np.zeros(p + 1, np.uint64)
        mask[0] = np.uint64((1 << p) - 1)
        errors[0], count[0] = rss, p
        if p:
            scratch = np.empty((int(widths.max()), int(widths.max()) + targets))
            names = np.arange(p)
            settle(begin[0], features[0], rise[0], W, B, q, names, p, widths, targets, scratch)
            order = np.concatenate([np.arange(begin[0, k], begin[0, k] + widths[features[0, k]]) for k in range(p)])
            tables[0], coefficients[0] = W[np.ix_(order, order)], B[order]
            begin[0] = np.concatenate([[0], np.cumsum(widths[features[0]])[:-1]])
        return cls((tables, coefficients, errors, features, begin, rise, count, fixed, at, mask), mask)


def _regular(A: Floats, starts: Ints, fixed: Ints, free: Ints, targets: int) -> tuple[Ints, list[int]]:
    """((column, free feature or -1) of columns that are no combination of those before, the free features with such a column)."""
    out, kept = [], []
    R = A[: A.shape[0] - targets, : A.shape[0] - targets].copy()
    base = np.diagonal(R).copy()
    for f in [*fixed, *free]:
        own = []
        for c in range(starts[f], starts[f + 1]):
            if R[c, c] > SINGULAR * base[c] and base[c] > 0:
                own.append(c)
                R -= np.outer(R[:, c], R[c]) / R[c, c]
        is_free = f in set(free.tolist())
        out += [(c, int(f) if is_free else -1) for c in own]
        kept += [int(f)] if own and is_free else []
    return np.array(out, np.int64).reshape(-1, 2), kept


def _inverse_form(A: Floats, held: Ints, where: Ints, targets: int) -> tuple[Floats, Floats, float]:
    """(inverse of the cross-products among `where` given `held`, coefficients, error left) of the fit on all columns."""
    from scipy.linalg import cho_factor, cho_solve

    t = np.arange(A.shape[0] - targets, A.shape[0])
    both = np.concatenate([held, where]).astype(np.int64)
    total = float(np.trace(A[np.ix_(t, t)]))
    if not both.size:
        return np.empty((1, 1)), np.empty((1, targets)), total
    factor = cho_factor(A[np.ix_(both, both)], lower=True)
    beta = cho_solve(factor, A[np.ix_(both, t)])
    inverse = cho_solve(factor, np.eye(both.size))
    rss = total - float((A[np.ix_(both, t)] * beta).sum())
    k = len(held)
    return np.ascontiguousarray(inverse[k:, k:]), np.ascontiguousarray(beta[k:]), rss


def _greedy(A: Floats, held: Ints, where: Ints, widths: Ints, targets: int) -> list[tuple[int, float, np.uint64]]:
    """(size, error, mask) of the sets that forward steps come through: a good set of each size makes the first bounds tight."""
    R = A.copy()
    t = np.arange(A.shape[0] - targets, A.shape[0])
    ends = np.cumsum(widths)
    blocks = [where[e - w : e] for e, w in zip(ends, widths, strict=True)]

    def enter(R: Floats, columns: Ints) -> Floats:
        for c in columns:
            if R[c, c] > 0:
                R = R - np.outer(R[:, c], R[c]) / R[c, c]
        return R

    R = enter(R, held)
    out, mask, left = [(0, float(np.trace(R[np.ix_(t, t)])), np.uint64(0))], 0, list(range(len(blocks)))
    while left:
        gains = [_gain(R, blocks[k], t) for k in left]
        k = left.pop(int(np.argmax(gains)))
        R, mask = enter(R, blocks[k]), mask | (1 << k)
        out.append((mask.bit_count(), float(np.trace(R[np.ix_(t, t)])), np.uint64(mask)))
    return out


def _gain(R: Floats, block: Ints, t: Ints) -> float:
    if len(block) == 1:
        c = int(block[0])
        return float((R[c, t] ** 2).sum() / R[c, c]) if R[c, c] > 0 else 0.0
    X, Y = R[np.ix_(block, block)], R[np.ix_(block, t)]
    return float((Y * np.linalg.lstsq(X, Y, rcond=None)[0]).sum())


def _as_result(best_rss: Floats, best_mask: np.ndarray, kept: list[int]) -> BestSubsets:
    sizes, errors, members = [], [], []
    for size, (subset, masks) in enumerate(zip(best_rss, best_mask, strict=True)):
        for rss, mask in zip(subset, masks, strict=True):
            if np.isfinite(rss):
                sizes.append(size)
                errors.append(float(rss))
                members.append(tuple(f for k, f in enumerate(kept) if int(mask) >> k & 1))
    return BestSubsets(np.array(sizes, np.int64), np.array(errors), tuple(members))
