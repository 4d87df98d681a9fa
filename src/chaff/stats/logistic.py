"""Ridge-penalised logistic regression on plain arrays: Newton's method with a guard on the step."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.stats.tolerances import OPTIMAL

MOST_STEPS = 60
MOST_HALVINGS = 30
NEWTON_WIDEST = 400  # coefficients from which a Newton step costs more than many quasi-Newton ones
MOST_QUASI_STEPS = 500
HALF_CURVATURE = 1e-10  # added to the intercepts' curvature: with a column a class only their differences matter


@dataclass(frozen=True)
class LogisticFit:
    """Where Newton's method ended."""

    coefficients: Floats
    """float64 (1 + columns, k): intercepts first. k = 1 for two classes (of the second), else one a class."""
    steps: int
    converged: bool
    separated: bool
    """Whether a plane tells the training classes apart without a mistake: only the penalty then holds the coefficients."""


def fit_logistic(
    X: Floats, shares: Floats, weights: Floats, penalty: float, start: Floats | None = None, tolerance: float = OPTIMAL
) -> LogisticFit:
    """Minimise Σ w_i loss_i + ½ penalty Σw Σ b².

    Parameters
    ----------
    X : float64 (n, q)
        Columns without a mean, of about unit spread; the intercept is added here and not penalised.
    shares : float64 (n, k)
        With k = 1 the 0/1 column of two classes, else an indicator a class.
    weights : float64 (n,)
    penalty : float
        In units of the rows' total weight, over 0 where columns are more than rows or classes can be told apart.
    start : float64 (1 + q, k), optional
        Where to begin; at the training shares when left out.
    tolerance : float
        The gradient, relative to the rows' weight, that counts as zero.

    Notes
    -----
    Source: Newton–Raphson with step halving; for several classes the symmetric form (Zhu and Hastie, 2004).
    """
    n = len(shares)
    A = np.concatenate([np.ones((n, 1)), X], axis=1)
    total = float(weights.sum())
    ridge = np.full(A.shape[1], penalty * total)
    ridge[0] = 0.0
    B = start_at(shares, weights, A.shape[1]) if start is None else start.copy()
    problem = _Problem(A, shares, weights, ridge)
    if B.size > NEWTON_WIDEST:
        return _quasi_newton(problem, B, tolerance)
    value, P = problem.value(B)
    for step in range(1, MOST_STEPS + 1):
        gradient = problem.gradient(B, P)
        if np.abs(gradient).max() <= tolerance * total:
            return LogisticFit(B, step - 1, True, separated(P, shares))
        move = problem.newton(P, gradient)
        slope = float((gradient * move).sum())
        size = 1.0
        for _ in range(MOST_HALVINGS):
            new, P_new = problem.value(B - size * move)
            if new <= value - 1e-4 * size * slope:
                break
            size /= 2
        else:
            return LogisticFit(B, step, True, separated(P, shares))  # no step helps any more: rounding is all that is left
        B, value, P = B - size * move, new, P_new
    return LogisticFit(B, MOST_STEPS, False, separated(P, shares))


def start_at(shares: Floats, weights: Floats, width: int) -> Floats:
    """Coefficients that predict the (smoothed) training shares."""
    mean = (weights @ shares + 0.5) / (weights.sum() + 0.5 * max(2, shares.shape[1]))
    B = np.zeros((width, shares.shape[1]))
    B[0] = np.log(mean / (1 - mean)) if shares.shape[1] == 1 else np.log(mean)
    return B


def probabilities(Z: Floats) -> Floats:
    """(n, k) from linear predictors: of the second class of two (k = 1), or of every class."""
    if Z.shape[1] == 1:
        return np.asarray(0.5 * (1.0 + np.tanh(0.5 * Z)))
    e = np.exp(Z - Z.max(1, keepdims=True))
    return np.asarray(e / e.sum(1, keepdims=True))


@dataclass(frozen=True)
class _Problem:
    A: Floats
    shares: Floats
    weights: Floats
    ridge: Floats

    def value(self, B: Floats) -> tuple[float, Floats]:
        """(penalised loss, predicted shares)."""
        Z = self.A @ B
        if Z.shape[1] == 1:
            z = Z[:, 0]
            loss = np.logaddexp(0.0, z) - self.shares[:, 0] * z
        else:
            top = Z.max(1)
            loss = top + np.log(np.exp(Z - top[:, None]).sum(1)) - (self.shares * Z).sum(1)
        return float(self.weights @ loss + 0.5 * (self.ridge[:, None] * B**2).sum()), probabilities(Z)

    def gradient(self, B: Floats, P: Floats) -> Floats:
        return np.asarray(self.A.T @ (self.weights[:, None] * (P - self.shares)) + self.ridge[:, None] * B)

    def newton(self, P: Floats, gradient: Floats) -> Floats:
        """Curvature⁻¹ gradient."""
        q, k = gradient.shape
        if k == 1:
            w = self.weights * P[:, 0] * (1 - P[:, 0])
            H = self.A.T @ (self.A * w[:, None])
        else:
            root = np.sqrt(self.weights)[:, None]
            U = np.concatenate([self.A * (P[:, t : t + 1] * root) for t in range(k)], axis=1)
            H = -(U.T @ U)
            for t in range(k):
                H[t * q : (t + 1) * q, t * q : (t + 1) * q] += self.A.T @ (self.A * (self.weights * P[:, t])[:, None])
        diagonal = np.tile(self.ridge, k)
        diagonal[:: self.ridge.size] += HALF_CURVATURE * self.weights.sum()
        H[np.diag_indices(H.shape[0])] += diagonal
        flat = gradient.T.ravel()
        return _solved(H, flat).reshape(k, q).T


def _solved(H: Floats, g: Floats) -> Floats:
    """H⁻¹ g; where rounding has made H singular its diagonal is raised until it is not."""
    from scipy.linalg import cho_factor, cho_solve

    lift = 0.0
    scale = float(np.trace(H)) / H.shape[0]
    for _ in range(12):
        try:
            return np.asarray(cho_solve(cho_factor(H + lift * np.eye(H.shape[0]), check_finite=False), g, check_finite=False))
        except np.linalg.LinAlgError:
            lift = max(10 * lift, 1e-12 * scale)
    answer: Floats = g / max(scale, 1e-300)
    return answer


def _quasi_newton(problem: _Problem, B: Floats, tolerance: float) -> LogisticFit:
    """L-BFGS (Liu and Nocedal, 1989) in coordinates where the columns are uncorrelated, so that few steps do."""
    from scipy.linalg import solve_triangular
    from scipy.optimize import minimize

    total = float(problem.weights.sum())
    H = problem.A.T @ (problem.A * problem.weights[:, None]) / total
    H[np.diag_indices(H.shape[0])] += problem.ridge * 4 / total + 1e-9 * float(np.trace(H)) / H.shape[0]
    L = np.linalg.cholesky(H)

    def value(flat: Floats) -> tuple[float, Floats]:
        here = solve_triangular(L, flat.reshape(B.shape), lower=True, trans="T", check_finite=False)
        loss, P = problem.value(here)
        g = problem.gradient(here, P)
        return loss / total, solve_triangular(L, g, lower=True, check_finite=False).ravel() / total

    options = {"maxiter": MOST_QUASI_STEPS, "gtol": tolerance, "ftol": 1e-14 if tolerance <= OPTIMAL else 1e-8, "maxcor": 8}
    result = minimize(value, (L.T @ B).ravel(), jac=True, method="L-BFGS-B", options=options)
    end = solve_triangular(L, result.x.reshape(B.shape), lower=True, trans="T", check_finite=False)
    P = problem.value(end)[1]
    return LogisticFit(end, int(result.nit), bool(result.success), separated(P, problem.shares))


def separated(P: Floats, shares: Floats) -> bool:
    """Whether every row's own class is predicted as the likeliest."""
    if P.shape[1] == 1:
        return bool((np.abs(P - shares) < 0.5).all())
    return bool((P.argmax(1) == shares.argmax(1)).all())
