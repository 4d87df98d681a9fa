"""GrowingWalk: a walk from little to more, which never makes tables of all columns against all."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.evaluate.closed_split import ClosedSplit
from chaff.evaluate.walk import ClosedWalk, StepScores, WalkedEngine, check_offered
from chaff.kernels.set_errors import enter, errors_with, errors_without
from chaff.results.score import Score
from chaff.stats.tolerances import SINGULAR

SMALL = 4  # the set may be as large as the columns by this, before sweeping whole tables is cheaper


def can_grow(splits: Sequence[ClosedSplit], members: int) -> bool:
    """Whether every feature is one column, and the set small enough."""
    return all((np.diff(s.starts) <= 1).all() for s in splits) and all(members < s.width / SMALL for s in splits)


@dataclass
class _Fold:
    """What one fold keeps of its columns' residuals on the set; see `chaff.kernels.set_errors`."""

    split: ClosedSplit
    members: Ints
    B: Floats
    d: Floats
    v: Floats
    ay: Floats
    vy: Floats
    base: Floats
    columns: Ints
    """int64 (features,): -1 for what can contribute nothing in this fold."""
    size: int = 0

    @classmethod
    def of(cls, split: ClosedSplit, room: int) -> _Fold:
        q, t = split.A.shape[0], split.width
        width = np.diff(split.starts)
        columns = np.where(width == 1, split.starts[:-1], -1).astype(np.int64)
        d, v = np.diagonal(split.A).copy(), np.diagonal(split.V).copy()
        ay, vy = split.A[:, t:].copy(), split.V[:, t:].copy()
        return cls(split, np.zeros(room, np.int64), np.zeros((q, room)), d, v, ay, vy, d.copy(), columns)

    def enter(self, feature: int) -> bool:
        """False when that is singular."""
        c = int(self.columns[feature])
        if c < 0:
            return True
        if self.d[c] <= SINGULAR * self.base[c]:
            return False
        s, q = self.split, self.d.size
        enter(s.A, s.V, c, self.size, self.members, self.B, self.d, self.v, self.ay, self.vy, s.width, np.empty(q), np.empty(q))
        self.size += 1
        return True

    @property
    def error(self) -> float:
        return float(self.v[self.split.width :].sum())

    def with_each(self, features: Ints) -> Floats:
        out = np.empty(features.size)
        errors_with(self.columns[features], self.d, self.v, self.ay, self.vy, self.base, self.split.width, SINGULAR, out)
        return out

    def without_each(self, features: Ints) -> Floats:
        out = np.empty(max(self.size, 1))
        errors_without(self.split.A, self.split.V, self.members, self.size, self.split.width, out)
        place = {int(c): k for k, c in enumerate(self.members[: self.size])}
        return np.array([out[place[int(c)]] if c >= 0 else self.error for c in self.columns[features]])


class GrowingWalk:
    """For least squares and ridge with one column a feature. Hands over to a `ClosedWalk` where the set has grown large, or is
    singular in some fold."""

    def __init__(self, engine: WalkedEngine, splits: list[ClosedSplit], start: frozenset[str]) -> None:
        self.engine, self.splits, self.features = engine, splits, start
        self._place = engine.place
        self._whole: ClosedWalk | None = None
        self._most = max(1, int(min(s.width for s in splits) / SMALL))
        self._afresh()

    def _afresh(self) -> None:
        self._folds = [_Fold.of(s, self._most + 1) for s in self.splits]
        if not all(self._enter(name) for name in sorted(self.features, key=self._place.__getitem__)):
            self._hand_over()

    def _enter(self, name: str) -> bool:
        f = self._place[name]
        return all(fold.enter(f) for fold in self._folds)

    def _hand_over(self) -> None:
        self._whole = ClosedWalk(self.engine, self.splits, self.features)

    @property
    def score(self) -> Score:
        if self._whole is not None:
            return self._whole.score
        return self.engine.score(self.features, np.array([fold.error for fold in self._folds]))

    def changes(self, names: Sequence[str] | None = None) -> StepScores:
        if self._whole is not None:
            return self._whole.changes(names)
        names = tuple(self._place if names is None else names)
        check_offered(names, self._place)
        inside = np.array([n in self.features for n in names])
        numbers = np.array([self._place[n] for n in names], np.int64)
        errors = np.empty((len(self._folds), len(names)))
        for k, fold in enumerate(self._folds):
            if not inside.all():
                errors[k, ~inside] = fold.with_each(numbers[~inside])
            if inside.any():
                errors[k, inside] = fold.without_each(numbers[inside])
        for j in np.flatnonzero(np.isnan(errors).any(0)):
            errors[:, j] = self.engine.errors([self.features ^ {names[j]}])[0]
        metric, share, here = self.engine.metrics[0], self.engine.folds.test_share, self.features
        return StepScores(
            names, self.engine.values(errors.T), lambda n, v: Score(here ^ {n}, metric.name, v, share), metric.higher_is_better
        )  # fmt: skip

    def toggle(self, name: str) -> None:
        entering = name not in self.features
        self.features = self.features ^ {name}
        if self._whole is not None:
            self._whole.toggle(name)
        elif not entering:
            self._afresh()
        elif len(self.features) > self._most or not self._enter(name):
            self._hand_over()
