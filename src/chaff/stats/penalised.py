"""Penalised least squares on plain arrays: the whole path of penalties, each point held to the optimality conditions.

The target is minimised over b: ½ Σ w (y − Z b)² + λ Σ_B v_B (α |b_B| + ½ (1 − α) |b_B|²), weights summing to one, Z and y of
unit spread. A block is a column, or all columns of a feature.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise
from typing import Protocol

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.kernels.coordinate_descent import MOST_PASSES, MOST_ROUNDS, MOST_STEPS, PASSES, descend, minimise, solve_path
from chaff.stats.tolerances import OPTIMAL

WIDEST_SOLVE = 3_000
WIDEST_COMPILED = 300  # columns up to which plain loops beat a call of linear algebra


@dataclass(frozen=True)
class Penalty:
    """What is charged, λ apart."""

    starts: Ints
    """int64 (blocks + 1,), where the columns of each block begin."""
    share: float
    """α: 1 charges the lengths only, 0 their squares only."""
    factors: Floats
    """float64 (blocks,), v: 0 leaves a block free."""

    @property
    def single(self) -> bool:
        answer: bool = self.starts.size - 1 == self.starts[-1]
        return answer

    def lengths(self, x: Floats) -> Floats:
        """float64 (blocks,): the length of each block of a vector."""
        if self.single:
            return np.abs(x)
        return np.sqrt(np.add.reduceat(x * x, self.starts[:-1])) if x.size else np.zeros(0)

    def first(self, penalty: float) -> Floats:
        return penalty * self.share * self.factors

    def second(self, penalty: float) -> Floats:
        return penalty * (1 - self.share) * self.factors

    def of(self, columns: Ints) -> Penalty:
        """The same for the blocks that some columns make up."""
        if columns.size == self.starts[-1]:
            return self
        here = np.isin(self.starts[:-1], columns)
        return Penalty(np.concatenate([[0], np.cumsum(np.diff(self.starts)[here])]).astype(np.int64), self.share, self.factors[here])

    def columns(self, blocks: Flags) -> Ints:
        """Columns of some blocks."""
        return np.flatnonzero(np.repeat(blocks, np.diff(self.starts)))

    def highest(self, gradient: Floats) -> float:
        """The least penalty at which nothing is in, from the gradient at nothing."""
        charged = self.factors > 0
        if not charged.any() or self.share == 0:
            return 0.0
        return float((self.lengths(gradient)[charged] / self.factors[charged]).max() / self.share)

    def violation(self, b: Floats, gradient: Floats, penalty: float) -> Floats:
        """float64 (blocks,): how far each block is from the optimality conditions, in units of the gradient."""
        first, second = self.first(penalty), self.second(penalty)
        wide = np.diff(self.starts)
        size = self.lengths(b)
        inside = size > 0
        pull = gradient - np.repeat(second, wide) * b
        toward = b * np.repeat(np.divide(first, size, out=np.zeros_like(first), where=inside), wide)
        return np.where(inside, self.lengths(pull - toward), np.maximum(0.0, self.lengths(gradient) - first))


class Quadratic(Protocol):
    """½ b'Gb − c'b, whose G need not be there whole."""

    def around(self, columns: Ints) -> tuple[Floats, Ints]:
        """G of some columns that hold these, and which they are."""
        ...

    def gradient(self, b: Floats) -> Floats:
        """c − G b."""
        ...


@dataclass(frozen=True)
class FromMoments:
    """G and c as they are: rows do not matter any more."""

    G: Floats
    c: Floats

    def around(self, columns: Ints) -> tuple[Floats, Ints]:
        return self.G, np.arange(self.c.size)

    def gradient(self, b: Floats) -> Floats:
        subset = np.flatnonzero(b)
        return np.asarray(self.c - (b[subset] @ self.G[subset] if subset.size < b.size // 8 else self.G @ b))


@dataclass
class FromRows:
    """More columns than rows: G is made for the columns that are looked at only, and kept."""

    X: Floats
    """float64 (q, n), each row a column of the design times the root of the weights."""
    y: Floats
    _at: Ints = field(default_factory=lambda: np.empty(0, np.int64))
    _G: Floats = field(default_factory=lambda: np.empty((0, 0)))

    def around(self, columns: Ints) -> tuple[Floats, Ints]:
        new = np.setdiff1d(columns, self._at)
        if new.size:
            X_new = self.X[new]
            across, own = self.X[self._at] @ X_new.T, X_new @ X_new.T
            self._G = np.block([[self._G, across], [across.T, own]])
            self._at = np.concatenate([self._at, new])
        place = np.empty(len(self.X), np.int64)
        place[self._at] = np.arange(self._at.size)
        at = place[columns]
        return np.ascontiguousarray(self._G[np.ix_(at, at)]), columns

    def gradient(self, b: Floats) -> Floats:
        subset = np.flatnonzero(b)
        return np.asarray(self.X @ (self.y - b[subset] @ self.X[subset]))


@dataclass(frozen=True)
class Solved:
    """One point of the path."""

    b: Floats
    gradient: Floats
    violation: float
    """Largest distance from the optimality conditions."""


def walk_path(quadratic: Quadratic, penalty: Penalty, penalties: Floats, tolerance: float = OPTIMAL) -> list[Solved]:
    """The minimum at each of the penalties, from the largest to the smallest, each begun where the last one ended.

    Notes
    -----
    Columns come into play by the sequential strong rule (Tibshirani et al., 2012); what it leaves out wrongly is found by the
    optimality conditions and put in.
    """
    b = np.zeros(int(penalty.starts[-1]))
    gradient = quadratic.gradient(b)
    before = penalty.highest(gradient)
    if isinstance(quadratic, FromMoments) and penalty.single and 0 < b.size <= WIDEST_COMPILED and np.isfinite(penalties).all():
        B, gradients, violations = np.empty((penalties.size, b.size)), np.empty((penalties.size, b.size)), np.empty(penalties.size)
        solve_path(
            np.ascontiguousarray(quadratic.G), np.ascontiguousarray(quadratic.c), penalty.factors, penalty.share,
            np.ascontiguousarray(penalties, float), before, tolerance, B, gradients, violations,
        )  # fmt: skip
        return [Solved(*point) for point in zip(B, gradients, violations.tolist(), strict=True)]
    out = []
    for value in penalties:
        at = solve_at(quadratic, penalty, float(value), before, b, gradient, tolerance)
        b, gradient, before = at.b, at.gradient, float(value)
        out.append(at)
    return out


def solve_at(quadratic: Quadratic, penalty: Penalty, value: float, before: float, b: Floats, gradient: Floats, tolerance: float) -> Solved:
    """The minimum at one penalty, begun at `b`, the minimum at `before`."""
    if not np.isfinite(value):
        free = penalty.factors == 0
        b = np.where(np.repeat(free, np.diff(penalty.starts)), b, 0.0)
        return Solved(b, quadratic.gradient(b), 0.0)
    reach = penalty.share * penalty.factors
    play = (penalty.lengths(gradient) >= (2 * value - max(before, value)) * reach) | (penalty.lengths(b) > 0) | (reach == 0)
    violation = 0.0
    for _ in range(MOST_ROUNDS):
        columns = penalty.columns(play)
        b = b.copy()
        if columns.size:
            G, at = quadratic.around(columns)
            b[at] = inside(
                G, penalty.of(at), value, play if at.size == b.size else np.ones(int(play.sum()), bool), b[at], gradient[at], tolerance
            )
        gradient = quadratic.gradient(b)
        wrong = penalty.violation(b, gradient, value)
        violation = float(wrong.max(initial=0.0))
        outside = (wrong > tolerance) & ~play
        if not outside.any():
            break
        play |= outside
    return Solved(b, gradient, violation)


def inside(G: Floats, penalty: Penalty, value: float, play: Flags, b: Floats, g: Floats, tolerance: float) -> Floats:
    """The minimum over the blocks in play: descent, and where that is slow, linear systems on what is in."""
    first, second, starts = penalty.first(value), penalty.second(value), penalty.starts
    b, g = b.copy(), g.copy()
    if penalty.single and b.size <= WIDEST_COMPILED:
        minimise(np.ascontiguousarray(G), b, g, play, first, second, tolerance)
        return b
    height = np.diagonal(G).copy() if penalty.single else _heights(G, starts)
    room = np.empty(int(np.diff(starts).max()))
    done, blocks = 0, np.flatnonzero(play)
    passes = max(PASSES, int(np.count_nonzero(b) ** 2 / (3 * b.size)))  # as many as cost what a linear system costs
    while done < MOST_PASSES:
        took, worst = descend(G, g, b, blocks, starts, height, first, second, 0.3 * tolerance, passes, room)
        done += took
        if worst <= 0.3 * tolerance:
            break
        if penalty.single:
            exact = _by_support(G, g, b, play, first, second, tolerance)
            if exact is not None:
                return exact
        passes = min(2 * passes, 400)
    return b


def _by_support(G: Floats, g: Floats, b: Floats, play: Flags, first: Floats, second: Floats, tolerance: float) -> Floats | None:
    """The exact minimum by solving for what is in, signs as they stand; what crosses zero on the way goes out, what pulls
    too hard comes in. None when that takes too many steps.

    Source: Osborne, Presnell and Turlach, 2000; Lee et al., 2007.
    """
    from scipy.linalg import cho_factor, cho_solve

    b, g = b.copy(), g.copy()
    sign = np.sign(b)
    for _ in range(MOST_STEPS):
        at = np.flatnonzero(sign)
        if at.size > WIDEST_SOLVE:
            return None
        if at.size:
            H = G[np.ix_(at, at)]
            H[np.diag_indices(at.size)] += second[at]
            pull = g[at] - second[at] * b[at] - first[at] * sign[at]
            try:
                # A step from where b stands, so that rounding is that of the step.
                step = cho_solve(cho_factor(H, lower=True, check_finite=False), pull, check_finite=False)
            except np.linalg.LinAlgError:
                return None
            crossing = ((b[at] + step) * sign[at] <= 0) & (first[at] > 0)
            share = 1.0
            if crossing.any():
                room = np.where(crossing, -b[at] / np.where(step == 0, 1.0, step), np.inf)
                share = float(np.clip(room.min(), 0.0, 1.0))
                sign[at[room <= share]] = 0.0
            moved = np.where(sign[at] == 0, -b[at], share * step)
            b[at] += moved
            b[at[sign[at] == 0]] = 0.0
            g -= moved @ G[at] if 4 * at.size < b.size else G[:, at] @ moved
            if share < 1.0:
                continue
        pulls = np.where(play & (sign == 0), np.abs(g) - first, -1.0)
        top = int(np.argmax(pulls))
        if pulls[top] <= 0.3 * tolerance:
            return b
        sign[top] = np.sign(g[top])
    return None


def _heights(G: Floats, starts: Ints) -> Floats:
    """The largest eigenvalue of each block."""
    return np.array([np.linalg.eigvalsh(G[a:b, a:b])[-1] if b - a > 1 else G[a, a] for a, b in pairwise(starts)])
