"""Score tests of one column against another that count witnesses, not rows: groups, frequencies of a series, or weighted rows.

A row's part in a relation is the product of its two centred values. Where rows hang together, parts are added up over what
is independent - over groups, or, for rows in time, over cosines, which all but part a series that drifts - and the sum is
held against the spread of those parts. Ranks in place of values make the rank tests of it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.stats.paired_loss import Units
from chaff.stats.tail_probabilities import f_upper
from chaff.stats.tolerances import SINGULAR

FEW = 20
"""Witnesses under which signs are flipped instead of trusting t or F."""
ENUMERATED = 12
FLIPS = 8191
A_DIRECTION = 4
"""Witnesses that each direction of a joint test needs for its covariance to be turned round."""
FLIPS_OF_MANY = 1999
FEWEST_WEIGHTED = 10
"""Effective rows under which weighted rows are too few to judge by."""


@dataclass(frozen=True)
class Parts:
    """What each witness adds to each product of columns."""

    values: Floats
    """(directions, witnesses)"""
    effective: float
    """Witnesses that as many equal ones would be worth."""


def score_p(A: Floats, B: Floats, units: Units) -> float:
    """p of no relation between two sets of columns, given what the rows are.

    Parameters
    ----------
    A, B : float64 (a, n) and (b, n)
        Columns of the feature and of the target: values, ranks, or 0/1 for levels but one.
    units : Units
        Of the n rows. With groups and an order the larger of the two p-values: either may be what rows share.

    Returns
    -------
    float, NaN without two witnesses, without spread, or where the weights leave fewer than ten effective rows.

    Notes
    -----
    Groups: sums over groups, t or Hotelling's F with groups less one degrees of freedom (Liang and Zeger, 1986; ranks: Datta
    and Satten, 2005); under 20 groups, or where few hold most rows, their signs are flipped. Order: products of cosine
    transforms (Lazarus, Lewis, Stock and Watson, 2018), whose self-normalised sum is no wider than t however few frequencies
    carry it (Efron, 1969). Weights: squared in the spread, effective rows (Kish, 1965).
    """
    w = np.ones(A.shape[1]) if units.weights is None else np.asarray(units.weights, float)
    live = w > 0
    if live.sum() < 2:
        return float("nan")
    A, B, w = A[:, live], B[:, live], w[live]
    A, B = (X - (X @ w / w.sum())[:, None] for X in (A, B))
    A, B = _with_spread(A), _with_spread(B)
    if not len(A) or not len(B):
        return float("nan")
    result = []
    if units.order is not None:
        result.append(_joint_p(_by_frequency(A, B, w, np.asarray(units.order)[live])))
    if units.groups is not None:
        result.append(_joint_p(_by_group(A, B, w, np.asarray(units.groups)[live])))
    if not result:
        effective = float(w.sum() ** 2 / (w**2).sum())
        result.append(_joint_p(Parts(_products(w * A, B), effective)) if effective >= FEWEST_WEIGHTED else float("nan"))
    return float(np.max(result)) if not np.isnan(result).any() else float("nan")


def _with_spread(X: Floats) -> Floats:
    size = np.abs(X).max(1, initial=0.0)
    return np.asarray(X[size > 0] / size[size > 0, None])


def _products(A: Floats, B: Floats) -> Floats:
    return np.asarray((A[:, None] * B[None]).reshape(-1, A.shape[1]))


def _by_group(A: Floats, B: Floats, w: Floats, groups: Ints) -> Parts:
    codes = np.unique(groups, return_inverse=True)[1]
    count = int(codes.max()) + 1
    sizes = np.bincount(codes, w, count)
    sums = np.array([np.bincount(codes, row, count) for row in _products(w * A, B)])
    return Parts(sums, float(sizes.sum() ** 2 / (sizes**2).sum()))


def _by_frequency(A: Floats, B: Floats, w: Floats, order: Floats) -> Parts:
    from scipy.fft import dct

    at = np.argsort(order, kind="stable")
    A, B = (dct(np.sqrt(w[at]) * X[:, at], norm="ortho", axis=1)[:, 1:] for X in (A, B))
    return Parts(_products(A, B), float(A.shape[1]))


def _joint_p(parts: Parts) -> float:
    """p of the sum of the parts being nothing but chance."""
    S = parts.values
    d, m = S.shape
    if m < 2:
        return float("nan")
    if d == 1:
        square = float(S[0] @ S[0])
        if square <= 0:
            return float("nan")
        if parts.effective < FEW:
            return _flipped(S, np.array([1.0 / square]))
        return _tail(float(S[0].sum()) ** 2 / square, 1, m, parts.effective)
    scale = np.sqrt((S * S).sum(1))
    S = S[scale > 0] / scale[scale > 0, None]
    if not len(S):
        return float("nan")
    if parts.effective < FEW or A_DIRECTION * len(S) > min(m, parts.effective):
        return _flipped(S, np.ones(len(S)))
    values, vectors = np.linalg.eigh(S @ S.T)
    fine = values > SINGULAR * values[-1]
    sums = vectors[:, fine].T @ S.sum(1)
    return _tail(float((sums**2 / values[fine]).sum()), int(fine.sum()), m, parts.effective)


def _tail(square: float, d: int, m: int, effective: float) -> float:
    """Upper tail of the squared sum over its spread about nothing: Hotelling's T² in that form."""
    left = m - square
    if left <= 0:
        return 0.0
    f = square * (m - d) / (d * left)
    return float(f_upper(np.array(f), np.array(float(d)), np.array(max(effective - d, 1.0))))


def _flipped(S: Floats, scale: Floats) -> float:
    """p from the signs of the witnesses: all of them where few, the same random ones for every feature otherwise."""
    m = S.shape[1]
    signs = _signs(m, FLIPS if len(S) == 1 else FLIPS_OF_MANY)
    real = float((S.sum(1) ** 2) @ scale) * (m - 1) / m  # the means came from the same witnesses
    drawn = ((signs @ S.T) ** 2) @ scale
    reached = int((drawn >= real * (1 - 1e-9)).sum())
    if m <= ENUMERATED:
        return reached / len(signs)
    return (1.0 + reached) / (1.0 + len(signs))


def _signs(m: int, most: int) -> Floats:
    if m <= ENUMERATED:  # a sign for all is no other relation: half of them say it all
        bits = np.arange(2 ** (m - 1))
        return np.asarray(1.0 - 2.0 * ((bits[:, None] >> np.arange(m)) & 1))
    return np.asarray(1.0 - 2.0 * np.random.default_rng(m).integers(0, 2, (most, m)))
