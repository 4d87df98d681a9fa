"""Penalised logistic regression on plain arrays: the path of penalties by Newton steps, each a penalised quadratic.

The target is minimised over the intercepts and B: Σ w loss + λ Σ_k Σ_B v_B (α |B_k| + ½ (1 − α) |B_k|²), weights summing to
one; one column of B for two classes, one a class for more.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.stats.logistic import probabilities, separated
from chaff.stats.penalised import Penalty, inside
from chaff.stats.tolerances import OPTIMAL

MOST_ROUNDS = 200
MOST_HALVINGS = 40
WHOLE = 400  # up to so many columns the curvature is that of all, and serves several penalties
SLOW = 0.4  # a round that leaves more of the violation than this asks for a fresh curvature


@dataclass(frozen=True)
class LogisticPoint:
    """One point of the path."""

    intercepts: Floats
    B: Floats
    """float64 (q, k)."""
    violation: float
    separated: bool


@dataclass
class _Curve:
    """The loss's curvature in the coefficients of all classes, the intercepts moved along."""

    columns: Ints
    """Places in the stacked coefficients, class by class."""
    G: Floats
    cross: Floats
    """float64 (columns, k)."""
    inverse: Floats
    """float64 (k, k), of the intercepts' own curvature."""


@dataclass
class LogisticState:
    """Where the walk stands; coefficients are stacked class by class."""

    Z: Floats
    """float64 (q, n): a row a column of the design."""
    shares: Floats
    w: Floats
    penalty: Penalty
    """Of the stacked coefficients."""
    intercepts: Floats
    b: Floats
    eta: Floats
    P: Floats
    now: float
    """The loss where it stands."""
    curve: _Curve | None = None
    _pull: tuple[Floats, Floats] | None = None

    @property
    def classes(self) -> int:
        answer: int = self.shares.shape[1]
        return answer

    def loss(self, eta: Floats) -> float:
        if eta.shape[1] == 1:
            z = eta[:, 0]
            return float(self.w @ (np.logaddexp(0.0, z) - self.shares[:, 0] * z))
        top = eta.max(1)
        return float(self.w @ (top + np.log(np.exp(eta - top[:, None]).sum(1)) - (self.shares * eta).sum(1)))

    def charge(self, b: Floats, value: float) -> float:
        size = self.penalty.lengths(b)
        return float(self.penalty.first(value) @ size + 0.5 * self.penalty.second(value) @ size**2)

    def pull(self) -> tuple[Floats, Floats]:
        """Gradient of minus the loss in the stacked coefficients, and in the intercepts."""
        if self._pull is None:
            R = self.w[:, None] * (self.shares - self.P)
            self._pull = np.concatenate([self.Z @ R[:, t] for t in range(self.classes)]), R.sum(0)
        return self._pull

    def of_class(self, columns: Ints, t: int) -> Ints:
        """Which of some stacked columns are of class t, as design columns."""
        q = len(self.Z)
        return columns[(columns >= t * q) & (columns < (t + 1) * q)] - t * q

    def go(self, intercepts: Floats, b: Floats, eta: Floats, loss: float) -> None:
        self.intercepts, self.b, self.eta, self.now = intercepts, b, eta, loss
        self.P, self._pull = probabilities(eta), None


def walk_logistic(
    Z: Floats, shares: Floats, w: Floats, penalty: Penalty, penalties: Floats, tolerance: float = OPTIMAL
) -> list[LogisticPoint]:
    """The minimum at each penalty, from the largest to the smallest, each begun where the last one ended.

    Parameters
    ----------
    Z : float64 (q, n)
        The design's columns as rows, centred, of unit spread.
    shares : float64 (n, k)
        The 0/1 column of two classes, or an indicator a class.
    w : float64 (n,)
        Summing to one.

    Notes
    -----
    Source: Friedman, Hastie and Tibshirani, 2010, with the curvature of all classes together and a step that is halved until
    the target falls.
    """
    state = start(Z, shares, w, penalty)
    before = state.penalty.highest(state.pull()[0])
    out = []
    for value in penalties:
        violation = _solve(state, float(value), before, tolerance)
        B = np.ascontiguousarray(state.b.reshape(state.classes, -1).T)
        out.append(LogisticPoint(state.intercepts.copy(), B, violation, separated(state.P, shares)))
        before = float(value)
    return out


def start(Z: Floats, shares: Floats, w: Floats, penalty: Penalty) -> LogisticState:
    """Intercepts only."""
    mean, k = np.clip(w @ shares, 1e-12, 1 - 1e-12), shares.shape[1]
    intercepts = np.log(mean / (1 - mean)) if k == 1 else np.log(mean)
    eta = np.repeat(intercepts[None, :], len(shares), 0)
    stacked = Penalty(
        np.concatenate([[0], *(penalty.starts[1:] + t * len(Z) for t in range(k))]).astype(np.int64), penalty.share,
        np.tile(penalty.factors, k),
    )  # fmt: skip
    state = LogisticState(Z, shares, w, stacked, intercepts, np.zeros(k * len(Z)), eta, probabilities(eta), 0.0)
    state.now = state.loss(eta)
    return state


def _solve(s: LogisticState, value: float, before: float, tolerance: float) -> float:
    """Newton rounds at one penalty; returns the violation that is left."""
    if not np.isfinite(value):
        return 0.0
    reach = s.penalty.share * s.penalty.factors
    near = s.penalty.lengths(s.pull()[0]) >= (2 * value - max(before, value)) * reach
    play: Flags = near | (s.penalty.lengths(s.b) > 0) | (reach == 0)
    left = np.inf
    for number in range(MOST_ROUNDS):
        gradient, own = s.pull()
        wrong = s.penalty.violation(s.b, gradient, value)
        worst = max(float(wrong.max(initial=0.0)), float(np.abs(own).max()))
        if worst <= tolerance:
            return worst
        play |= wrong > tolerance
        fresh = number > 0 and worst > SLOW * left
        if not (_newton(s, value, play, tolerance, fresh) or (not fresh and _newton(s, value, play, tolerance, True))):
            return worst
        left = worst
    return left


def _curve(s: LogisticState, play: Flags, fresh: bool) -> _Curve:
    """The curvature, that of an earlier round where it covers what is in play and served well."""
    q, k = len(s.Z), s.classes
    columns = np.arange(k * q) if k * q <= min(WHOLE, s.Z.shape[1]) else s.penalty.columns(play)
    if s.curve is not None and not fresh and np.array_equal(s.curve.columns, columns):
        return s.curve
    at = [s.of_class(columns, t) for t in range(k)]
    subset = [s.Z if a.size == q else s.Z[a] for a in at]
    ends = np.cumsum([0, *(a.size for a in at)])
    G, cross, own = np.empty((columns.size, columns.size)), np.empty((columns.size, k)), np.empty((k, k))
    for t in range(k):
        for u in range(t, k):
            h = s.w * s.P[:, t] * ((t == u) - s.P[:, u])
            here, there = slice(ends[t], ends[t + 1]), slice(ends[u], ends[u + 1])
            block = (subset[t] * h) @ subset[u].T
            G[here, there], G[there, here] = block, block.T
            cross[here, u], cross[there, t] = subset[t] @ h, subset[u] @ h
            own[t, u] = own[u, t] = h.sum()
    inverse = np.linalg.pinv(own, rcond=1e-10, hermitian=True)
    s.curve = _Curve(columns, G - cross @ inverse @ cross.T, cross, np.asarray(inverse, float))
    return s.curve


def _newton(s: LogisticState, value: float, play: Flags, tolerance: float, fresh: bool) -> bool:
    """One step of all classes; whether it brought anything."""
    curve = _curve(s, play, fresh)
    at, (gradient, own) = curve.columns, s.pull()
    step = np.zeros(at.size)
    if at.size:
        bound = gradient[at] - curve.cross @ (curve.inverse @ own)
        penalty = s.penalty.of(at)
        playing = play if at.size == s.b.size else np.ones(penalty.factors.size, bool)
        step = inside(curve.G, penalty, value, playing, s.b[at], bound, 0.1 * tolerance) - s.b[at]
    first = curve.inverse @ (own - curve.cross.T @ step)
    along, moves = np.repeat(first[None, :], len(s.shares), 0), at[step != 0]
    full = np.zeros(s.b.size)
    full[at] = step
    for t in range(s.classes):
        subset = s.of_class(moves, t)
        d = full[t * len(s.Z) : (t + 1) * len(s.Z)]
        along[:, t] += d @ s.Z if 2 * subset.size > len(s.Z) else d[subset] @ s.Z[subset]
    return _search(s, value, full, first, along)


def _search(s: LogisticState, value: float, step: Floats, first: Floats, along: Floats) -> bool:
    """Halve the step until the target falls."""
    now = s.now + s.charge(s.b, value)
    size = 1.0
    for _ in range(MOST_HALVINGS):
        eta, b = s.eta + size * along, s.b + size * step
        loss = s.loss(eta)
        if loss + s.charge(b, value) <= now + 1e-15 * abs(now):
            s.go(s.intercepts + size * first, b, eta, loss)
            return True
        size /= 2
    return False
