"""What a penalised path is walked on: standardised training rows, or their moments."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Protocol

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.models.logistic import Standard
from chaff.models.penalty_path import Twins
from chaff.models.protocols import Sample
from chaff.stats.logistic import fit_logistic
from chaff.stats.penalised import FromMoments, FromRows, Penalty, Quadratic, walk_path
from chaff.stats.penalised_logistic import start, walk_logistic
from chaff.stats.tolerances import FLAT

LEAST_WEIGHT = 1e-4  # of the largest ridge coefficient: what an adaptive charge is at most held against
RELAXED_RIDGE = 1e-9
FREE_RIDGE = 1e-6  # rows' worth that stays on a logistic fit without a penalty, so that it has an end
SAMPLE = 101  # rows whose median is the shift of the moments


class Settings(Protocol):
    """What of a model's settings the path depends on."""

    @property
    def adaptive(self) -> bool: ...
    @property
    def relaxed(self) -> bool: ...
    @property
    def twins(self) -> str: ...
    @property
    def by_group(self) -> bool: ...
    @property
    def length_share(self) -> float: ...


@dataclass(frozen=True)
class PathData:
    """Training rows of one fit: standardised, orthogonal within features where these are charged as a whole."""

    standard: Standard
    centre: Floats
    """float64 (targets,): weighted mean of a number target; 0 with classes."""
    scale: float
    penalty: Penalty
    turn: Sequence[Floats] | None
    """How the columns of each feature become uncorrelated ones; None where columns stand for themselves."""
    twins: Twins
    settings: Settings
    quadratic: Quadratic | None
    """For a number target."""
    rows: tuple[Floats, Floats, Floats] | None
    """With classes: the design's columns as rows, shares, and weights that sum to one."""
    gram: Floats | None = field(default=None, repr=False)

    @property
    def width(self) -> int:
        return int(self.penalty.starts[-1])

    @property
    def highest(self) -> float:
        """The least penalty at which nothing is in."""
        if self.quadratic is not None:
            return self.penalty.highest(self.quadratic.gradient(np.zeros(self.width)))
        if self.rows is None or not self.width:
            return 0.0
        state = start(*self.rows, self.penalty)
        return state.penalty.highest(state.pull()[0])

    def walk(self, penalties: Floats, tolerance: float) -> tuple[Floats, Floats, Floats, Floats]:
        """(coefficients of the used columns (penalties, used, t), intercepts (penalties, t), violations, separated)."""
        t = 1 if self.rows is None else self.rows[1].shape[1]
        if self.quadratic is not None:
            points = walk_path(self.quadratic, self.penalty, penalties, tolerance)
            B = np.array([p.b for p in points])[:, :, None]
            if self.settings.relaxed:
                B = np.array([self._relaxed(b[:, 0])[:, None] for b in B])
            zero = np.zeros((len(points), 1))
            return self._out(B), zero, np.array([p.violation for p in points]), np.zeros(len(points), bool)
        assert self.rows is not None
        Z, shares, w = self.rows
        stages_run = walk_logistic(Z, shares, w, self.penalty, np.maximum(penalties, FREE_RIDGE), tolerance)
        B, a = np.array([p.B for p in stages_run]).reshape(len(stages_run), self.width, t), np.array([p.intercepts for p in stages_run])
        if self.settings.relaxed:
            for k, p in enumerate(stages_run):
                subset = np.flatnonzero((p.B != 0).any(1))
                done = fit_logistic(np.ascontiguousarray(Z[subset].T), shares, w, FREE_RIDGE)
                a[k], B[k, subset] = done.coefficients[0], done.coefficients[1:]
        return self._out(B), a, np.array([p.violation for p in stages_run]), np.array([p.separated for p in stages_run])

    def _relaxed(self, b: Floats) -> Floats:
        """Least squares on what is in."""
        subset = np.flatnonzero(b)
        if not subset.size or self.quadratic is None:
            return b
        G, at = self.quadratic.around(subset)
        place = np.searchsorted(at, subset)
        c = self.quadratic.gradient(np.zeros(b.size))[subset]
        H = G[np.ix_(place, place)] + RELAXED_RIDGE * np.eye(subset.size)
        out = np.zeros_like(b)
        out[subset] = np.linalg.lstsq(H, c, rcond=None)[0]
        return out

    def _out(self, B: Floats) -> Floats:
        """From the columns that the path was walked on to those of the standardised design."""
        if self.turn is not None:
            parts = [B[:, a:b] for a, b in pairwise(self.penalty.starts)]
            turned = [np.einsum("mr,lrt->lmt", T, part) for T, part in zip(self.turn, parts, strict=True)]
            return np.concatenate(turned, axis=1) if turned else B
        full = np.zeros((len(B), self.twins.width, B.shape[2]))
        full[:, self.twins.stands] = B
        return self.twins.spread(full) if self.settings.twins == "both" else full


def path_data_of(settings: Settings, train: Sample, splits: Sequence[tuple[Ints, Ints]]) -> tuple[PathData, list[PathData]]:
    """The data of all training rows, and one an inner fold.

    A number target without gaps and with more rows than columns is summed up once, each part of the rows by itself: the
    moments of a fold's training rows are the sum of its parts.
    """
    X, n = train.data.X, len(train.targets)
    blocks = _blocks(train)
    if train.classes or X.shape[1] >= n or settings.by_group or not np.isfinite(X.sum()):
        every = [np.arange(n), *(rows for rows, _ in splits)]
        made = [_from_rows(settings, train, rows, blocks) for rows in every]
        return made[0], made[1:]
    parts = _parts(n, splits)
    sums = _sums(train, parts)
    whole = _from_sums(settings, train, sums, np.arange(n))
    inner = []
    for rows, _ in splits:
        within = [s for s, p in zip(sums, parts, strict=True) if np.isin(p[0], rows)]
        inner.append(_from_sums(settings, train, within, rows))
    return whole, inner


def _blocks(train: Sample) -> Ints:
    """int64 (width,): the feature of each design column."""
    starts = train.data.layout.starts
    return np.repeat(np.arange(starts.size - 1), np.diff(starts))


def _weights(train: Sample, rows: Ints) -> Floats:
    w = np.ones(rows.size) if train.weights is None else np.asarray(train.weights[rows], float)
    answer: Floats = w / w.sum()
    return answer


def _from_rows(settings: Settings, train: Sample, rows: Ints, feature: Ints) -> PathData:
    w = _weights(train, rows)
    whole = rows.size == len(train.targets)
    standard = Standard.learn(train.data.X if whole else train.data.X[rows], w).pooled(train.data.layout)
    Z = standard.apply(train.data.X if whole else train.data.X[rows])
    y = train.targets[rows]
    centre, scale = (np.zeros(y.shape[1]), 1.0) if train.classes else _centred(y, w)
    turn, starts, twins = None, np.arange(Z.shape[1] + 1), Twins((), Z.shape[1], np.ones(Z.shape[1]))
    if settings.by_group:
        turn, starts, Z = _turned(Z, w, feature[standard.used])
    else:
        twins = Twins.of(Z)
        Z, starts = Z[:, twins.stands], np.arange(int(twins.stands.sum()) + 1)
    columns = np.ascontiguousarray(Z.T)
    target = y if train.classes else (y - centre) / scale
    penalty = Penalty(starts.astype(np.int64), settings.length_share, np.sqrt(np.diff(starts)))
    if train.classes:
        factors = penalty.factors * (_adaptive_classes(penalty, Z, y, w) if settings.adaptive else 1.0)
        return PathData(standard, centre, scale, _with(penalty, factors), turn, twins, settings, None, (columns, y, w))
    root = np.sqrt(w)
    if Z.shape[1] < rows.size:
        G = (columns * root) @ (columns * root).T
        quadratic: Quadratic = FromMoments(G, columns @ (w * target[:, 0]))
    else:
        quadratic = FromRows(columns * root, root * target[:, 0])
    factors = penalty.factors * (_adaptive(penalty, columns * root, root * target[:, 0]) if settings.adaptive else 1.0)
    return PathData(standard, centre, scale, _with(penalty, factors), turn, twins, settings, quadratic, None)


def _with(penalty: Penalty, factors: Floats) -> Penalty:
    return Penalty(penalty.starts, penalty.share, factors)


def _centred(y: Floats, w: Floats) -> tuple[Floats, float]:
    centre = w @ y
    return centre, float(np.sqrt(w @ (y - centre) ** 2).item()) or 1.0


def _turned(Z: Floats, w: Floats, feature: Ints) -> tuple[list[Floats], Ints, Floats]:
    """Columns of each feature made uncorrelated and of unit spread; those that add nothing are left out."""
    turn, parts, starts = [], [], [0]
    for f in np.unique(feature):
        block = Z[:, feature == f]
        values, vectors = np.linalg.eigh((block * w[:, None]).T @ block)
        keep = values > 1e-9 * max(values.max(initial=0.0), 1e-300)
        T = vectors[:, keep] / np.sqrt(values[keep])
        turn.append(T)
        parts.append(block @ T)
        starts.append(starts[-1] + T.shape[1])
    return turn, np.array(starts), np.concatenate(parts, axis=1) if parts else Z


def _adaptive(penalty: Penalty, X: Floats, y: Floats) -> Floats:
    """How much more each block is charged: by a ridge fit whose penalty generalised cross-validation has chosen.

    X : float64 (q, n), columns as rows times the root of the weights.  Source: Golub, Heath and Wahba, 1979; Zou, 2006.
    """
    U, s, V = np.linalg.svd(X, full_matrices=False)
    q, n = X.shape
    along = V @ y
    best, b = np.inf, np.zeros(q)
    for ridge in np.logspace(-4, 2, 25) * max(1.0, q / n):
        shrink = s**2 / (s**2 + ridge)
        left = float(y @ y - along @ along + ((1 - shrink) ** 2) @ along**2)
        score = left / max(1e-12, 1 - shrink.sum() / n) ** 2
        if score < best:
            best, b = score, U @ (s / (s**2 + ridge) * along)
    return _charges(penalty.lengths(b))


def _adaptive_classes(penalty: Penalty, Z: Floats, shares: Floats, w: Floats) -> Floats:
    B = fit_logistic(Z, shares, w, 0.02 * max(1.0, Z.shape[1] / len(Z))).coefficients[1:]
    return _charges(np.sqrt(sum(penalty.lengths(B[:, t]) ** 2 for t in range(B.shape[1]))))


def _charges(size: Floats) -> Floats:
    """Inverse of the coefficients, one for the strongest."""
    top = float(size.max(initial=0.0))
    return np.asarray(1.0 / np.maximum(size / top, LEAST_WEIGHT)) if top > 0 else np.ones_like(size)


@dataclass(frozen=True)
class _Sums:
    """Weighted sums over some rows of [columns, target], about a shift."""

    weight: float
    first: Floats
    second: Floats


def _parts(n: int, splits: Sequence[tuple[Ints, Ints]]) -> list[Ints]:
    """Sets of rows of which every fold's training rows are a union."""
    part = np.full(n, -1, np.int64)
    for k, (_, test) in enumerate(splits):
        part[test] = k
    return [np.flatnonzero(part == k) for k in range(-1, len(splits)) if (part == k).any()]


def _shift(train: Sample) -> Floats:
    rows = np.linspace(0, len(train.targets) - 1, min(SAMPLE, len(train.targets))).astype(int)
    return np.concatenate([np.median(train.data.X[rows], axis=0), np.median(train.targets[rows], axis=0)])


def _sums(train: Sample, parts: Sequence[Ints]) -> list[tuple[_Sums, Floats]]:
    shift = _shift(train)
    out = []
    for rows in parts:
        W = np.concatenate([train.data.X[rows], train.targets[rows]], axis=1)
        W -= shift
        w = None if train.weights is None else train.weights[rows]
        first = W.sum(0) if w is None else w @ W
        if w is not None:
            W *= np.sqrt(w)[:, None]
        out.append((_Sums(float(rows.size if w is None else w.sum()), first, W.T @ W), shift))
    return out


def _from_sums(settings: Settings, train: Sample, parts: Sequence[tuple[_Sums, Floats]], rows: Ints) -> PathData:
    """The data of the rows that these sums are over."""
    weight, shift = sum(s.weight for s, _ in parts), parts[0][1]
    mean = np.sum([s.first for s, _ in parts], axis=0) / weight
    C = np.sum([s.second for s, _ in parts], axis=0) / weight - np.outer(mean, mean)
    spread, means = np.sqrt(np.maximum(np.diagonal(C), 0.0)), mean + shift
    q = spread.size - 1
    used = np.flatnonzero(spread[:q] > FLAT * np.maximum(np.abs(means[:q]), 1.0))
    standard, scale = Standard(means[:q], spread[:q], used).pooled(train.data.layout), float(spread[q]) or 1.0
    used = standard.used
    G = C[np.ix_(used, used)] / np.outer(spread[used], spread[used])
    c = C[used, q] / (spread[used] * scale)
    twins = _twins_of(G)
    stands: Flags = twins.stands
    if not stands.all():
        G, c = np.ascontiguousarray(G[np.ix_(stands, stands)]), c[stands]
    starts = np.arange(c.size + 1)
    factors = np.ones(c.size)
    if settings.adaptive:
        values, vectors = np.linalg.eigh(G)
        root = vectors * np.sqrt(np.maximum(values, 0.0))
        side = np.where(values > 1e-12, (vectors.T @ c) / np.sqrt(np.maximum(values, 1e-12)), 0.0)
        factors = _adaptive_from(root, side, rows.size)
    return PathData(
        standard, means[q:], scale, Penalty(starts, settings.length_share, factors), None, twins, settings, FromMoments(G, c), None
    )  # fmt: skip


def _adaptive_from(root: Floats, side: Floats, n: int) -> Floats:
    """`_adaptive` from a root of the moments: G = root root', c = root side."""
    q = len(root)
    s2 = (root**2).sum(0)
    best, b = np.inf, np.zeros(q)
    for ridge in np.logspace(-4, 2, 25):
        shrink = s2 / (s2 + ridge)
        left = float(1 - side @ side + ((1 - shrink) ** 2) @ side**2)
        score = left / max(1e-12, 1 - shrink.sum() / n) ** 2
        if score < best:
            best, b = score, root @ (side / (s2 + ridge))
    return _charges(np.abs(b))


def _twins_of(G: Floats) -> Twins:
    """Equal and opposite columns by their correlations."""
    same = np.abs(G) >= 1 - 1e-12
    np.fill_diagonal(same, False)
    sign, sets, done = np.ones(len(G)), [], np.zeros(len(G), bool)
    for j in np.flatnonzero(same.any(1)):
        if not done[j]:
            members = np.sort(np.append(np.flatnonzero(same[j]), j))
            members = members[~done[members]]
            done[members] = True
            sign[members] = np.sign(G[members, members[0]])
            sets.append(members)
    return Twins(tuple(sets), len(G), sign)
