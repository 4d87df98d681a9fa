"""Squared hinge and squared ε-insensitive loss with a ridge, by Newton's method on plain arrays."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.stats.tolerances import OPTIMAL

MOST_STEPS = 100
MOST_HALVINGS = 30
LEAST_CURVATURE = 1e-10  # of the intercept, where no row is on the wrong side


@dataclass(frozen=True)
class MarginFit:
    b: Floats
    intercept: float
    converged: bool


def fit_margin(X: Floats, y: Floats, w: Floats, penalty: float, epsilon: float | None) -> MarginFit:
    """Minimise ½ Σ w past² + ½ penalty |b|², `past` what lies on the wrong side of the margin.

    Parameters
    ----------
    X : float64 (n, q)
        Centred columns of unit spread.
    y : float64 (n,)
        −1 and 1, or numbers.
    w : float64 (n,)
        Summing to one.
    epsilon : float or None
        What costs nothing, for numbers; None for the hinge.

    Notes
    -----
    With more columns than rows the fit is found in the span of the rows, which a ridge never leaves. Source: Keerthi and
    DeCoste, 2005 (Newton steps over the rows that are on the wrong side).
    """
    span = None
    if X.shape[1] > len(X):
        U, s, V = np.linalg.svd(X, full_matrices=False)
        X, span = U * s, V
    A = np.concatenate([np.ones((len(X), 1)), X], axis=1)
    ridge = np.full(A.shape[1], penalty)
    ridge[0] = 0.0
    b = np.zeros(A.shape[1])
    value, past = _value(A, y, w, ridge, epsilon, b)
    converged = False
    for _ in range(MOST_STEPS):
        gradient = A.T @ (w * past) + ridge * b
        if np.abs(gradient).max() <= OPTIMAL:
            converged = True
            break
        on = past != 0
        H = (A[on] * w[on, None]).T @ A[on] + np.diag(ridge)
        H[0, 0] += LEAST_CURVATURE
        move = np.linalg.solve(H, gradient)
        size = 1.0
        for _ in range(MOST_HALVINGS):
            new, new_past = _value(A, y, w, ridge, epsilon, b - size * move)
            if new <= value + 1e-16:
                break
            size /= 2
        else:
            break
        b, value, past = b - size * move, new, new_past
    return MarginFit(b[1:] if span is None else b[1:] @ span, float(b[0]), converged)


def _value(A: Floats, y: Floats, w: Floats, ridge: Floats, epsilon: float | None, b: Floats) -> tuple[float, Floats]:
    """(the target, derivative of half the loss in each row's prediction)."""
    z = A @ b
    past = np.where(y * z < 1, z - y, 0.0) if epsilon is None else np.sign(z - y) * np.maximum(0.0, np.abs(z - y) - epsilon)
    return float(0.5 * (w @ past**2) + 0.5 * (ridge @ b**2)), past
