"""Gaussian knockoffs on plain arrays: how far a copy may stand from its original, the copies, who is beyond them."""

from __future__ import annotations

from typing import Literal

import numpy as np
import scipy

from chaff.arrays import Flags, Floats

Form = Literal["equicorrelated", "semidefinite", "minimum reconstructability"]
FORMS: tuple[Form, ...] = ("equicorrelated", "semidefinite", "minimum reconstructability")
ROUNDS, ROUNDS_A_BARRIER, CONVERGED = 200, 20, 1e-7
BARRIERS = 8  # each a quarter of the one before
INSIDE = 1e-6  # the joint covariance keeps so much of its least eigenvalue


def distances(C: Floats, form: Form) -> Floats:
    """s of each column, 0..1: variance that sets a copy apart from its original, float64 (p,).

    C : float64 (p, p), correlations, positive definite. The joint covariance [[C, C - S], [C - S, C]] stays positive definite.

    Source: Barber and Candès, 2015 (equicorrelated); Candès, Fan, Janson and Lv, 2018 (semidefinite: sum of 1 - s as small as can
    be); Spector and Janson, 2022 (minimum reconstructability: what the others and the copies say of a column as little as can be).
    """
    p = len(C)
    equal = np.full(p, min(1.0, 2 * float(scipy.linalg.eigvalsh(C)[0])) * (1 - INSIDE))
    if form == "equicorrelated" or p == 1:
        return equal if p > 1 else np.ones(1) * (1 - INSIDE)
    s = equal * 0.9
    if form == "semidefinite":
        barrier = float(s.mean()) / 2
        for _ in range(BARRIERS):
            s = _descend(C, s, barrier)
            barrier /= 4
    else:
        s = _descend(C, s, None)
    return _inside(C, s)


def _descend(C: Floats, s: Floats, barrier: float | None) -> Floats:
    """Column by column to the optimum: of the sum of s with a log-determinant barrier, or of the trace of the joint inverse.

    D = 2 C - S; changing s_j by d changes its inverse P by d / (1 - d P_jj) times the outer product of P's column j.
    """
    s = s.copy()
    P = scipy.linalg.inv(2 * C - np.diag(s))
    for _ in range(ROUNDS if barrier is None else ROUNDS_A_BARRIER):
        largest = 0.0
        for j in range(len(s)):
            a, u = P[j, j], P[:, j].copy()
            if barrier is not None:
                d = 1 / a - barrier
            else:
                root = np.sqrt(float(u @ u))
                d = (1 - root * s[j]) / (a + root)
            new = min(1.0, max(INSIDE, s[j] + d))
            d = min(new - s[j], (1 - INSIDE) / a)
            if d == 0.0:
                continue
            P += d / (1 - d * a) * np.outer(u, u)
            s[j] += d
            largest = max(largest, abs(d))
        P = scipy.linalg.inv(2 * C - np.diag(s))
        if largest < CONVERGED:
            break
    return s


def _inside(C: Floats, s: Floats) -> Floats:
    """Scaled back where rounding took it out of the cone."""
    root = 1 / np.sqrt(s)
    most = 1 / float(scipy.linalg.eigvalsh(root[:, None] ** -1 * scipy.linalg.inv(2 * C) * root[None, :] ** -1)[-1])
    return np.asarray(s * min(1.0, most * (1 - INSIDE)))


def joint(C: Floats, s: Floats) -> Floats:
    """float64 (2 p, 2 p): covariance of the columns and their copies."""
    apart = C - np.diag(s)
    return np.block([[C, apart], [apart, C]])


def copies(Z: Floats, C: Floats, s: Floats, stream: np.random.Generator) -> Floats:
    """Knockoff copies of standardised columns, drawn from the normal law given them; float64 (n, p).

    Source: Candès, Fan, Janson and Lv, 2018, equation 3.2.
    """
    given = scipy.linalg.solve(C, np.diag(s), assume_a="pos")
    spread = 2 * np.diag(s) - np.diag(s) @ given
    value, vector = scipy.linalg.eigh((spread + spread.T) / 2)
    root = vector * np.sqrt(np.maximum(value, 0.0))
    return np.asarray(Z - Z @ given + stream.normal(size=Z.shape) @ root.T)


def threshold(W: Floats, q: float) -> float:
    """The smallest limit at which (1 + columns below minus it) / columns above it is no more than q; infinite where there is none.

    Source: Barber and Candès, 2015 (knockoff+).

    >>> threshold(np.array([3.0, 2.0, 1.0, -0.5]), 0.5)
    1.0
    """
    for t in np.unique(np.abs(W[W != 0])):
        if (1 + (-t >= W).sum()) / max(1, int((t <= W).sum())) <= q:
            return float(t)
    return float("inf")


def e_values(W: Floats, level: float) -> Floats:
    """p / (1 + columns below minus the limit) for columns above the limit of this level, else 0: their sum over columns without
    effect is p at most in the mean. Source: Ren and Barber, 2024."""
    t = threshold(W, level)
    return np.where(t <= W, W.size / (1.0 + (-t >= W).sum()), 0.0) if np.isfinite(t) else np.zeros(W.size)


def beyond(e: Floats, q: float) -> Flags:
    """Columns whose e-values are large enough together, bool (p,).  Source: Wang and Ramdas, 2022.

    >>> beyond(np.array([40.0, 20.0, 0.0, 0.0]), 0.1).tolist()
    [True, True, False, False]
    """
    order = np.argsort(-e, kind="stable")
    passed = np.flatnonzero(e[order] >= e.size / (q * np.arange(1, e.size + 1)) - 1e-9)
    out = np.zeros(e.size, bool)
    if passed.size:
        out[order[: passed[-1] + 1]] = True
    return out
