"""Walks: stand on a set of features, see what every single addition or removal would score, and step."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import Protocol

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UnknownColumn, UsageError, nearest
from chaff.evaluate.closed_split import ClosedSplit
from chaff.folds import Folds
from chaff.kernels.inflation import errors_after_toggle, toggle
from chaff.metrics import Metric
from chaff.results.score import Score
from chaff.stats.tolerances import SINGULAR, TIE


class StepScores(Mapping[str, Score]):
    """name → Score of the set after that one feature came or went. `by_fold` holds all of them, one row a name."""

    def __init__(self, names: tuple[str, ...], values: Floats, score: Callable[[str, Floats], Score], up: bool) -> None:
        self.names, self.by_fold, self._score, self._up = names, values, score, up
        self._place = {n: k for k, n in enumerate(names)}

    @property
    def means(self) -> Floats:
        return np.asarray(self.by_fold.mean(1))

    def tied(self) -> list[str]:
        """The names whose change scores best, by name: one, unless several score the same."""
        means = self.means if self._up else -self.means
        return sorted(self.names[k] for k in np.flatnonzero(means >= means.max() - TIE))

    def best(self) -> str:
        """The first of these."""
        return self.tied()[0]

    def __getitem__(self, name: str) -> Score:
        return self._score(name, self.by_fold[self._place[name]])

    def __iter__(self) -> Iterator[str]:
        return iter(self.names)

    def __len__(self) -> int:
        return len(self.names)


class Walk(Protocol):
    features: frozenset[str]

    @property
    def score(self) -> Score: ...
    def changes(self, names: Sequence[str] | None = None) -> StepScores: ...
    def toggle(self, name: str) -> None: ...


def check_offered(names: Sequence[str], offered: Collection[str]) -> None:
    """Raises `UnknownColumn` for one that is not on offer, and `UsageError` where there is none at all."""
    if not names:
        raise UsageError("no feature to change: name one at least")
    for name in names:  # a mapping or a set is asked, never a list: that would cost more than the scores
        if name not in offered:
            raise UnknownColumn(f"column '{name}' is not a candidate feature.{nearest(name, offered)}")


class WalkedScorer(Protocol):
    """What a plain walk asks of a scorer."""

    features: tuple[str, ...]
    metric: Metric
    folds: Folds

    def __call__(self, features: frozenset[str]) -> Score: ...
    def many(self, sets: Sequence[frozenset[str]], near: frozenset[str] | None = None) -> list[Score]: ...


class WalkedEngine(Protocol):
    """What a walk in closed form asks of its engine."""

    place: dict[str, int]
    metrics: tuple[Metric, ...]
    folds: Folds

    def score(self, features: frozenset[str], errors: Floats) -> Score: ...
    def errors(self, sets: Sequence[frozenset[str]]) -> Floats: ...
    def values(self, errors: Floats) -> Floats: ...


class PlainWalk:
    """For any model: every change is a set to be scored."""

    def __init__(self, scorer: WalkedScorer, start: frozenset[str]) -> None:
        self.scorer, self.features = scorer, start

    @property
    def score(self) -> Score:
        return self.scorer(self.features)

    def changes(self, names: Sequence[str] | None = None) -> StepScores:
        names = tuple(self.scorer.features if names is None else names)
        check_offered(names, frozenset(self.scorer.features))
        scores = self.scorer.many([self.features ^ {n} for n in names], self.features)
        values = np.array([s.values for s in scores]).reshape(len(names), self.scorer.folds.count)
        known = dict(zip(names, scores, strict=True))
        return StepScores(names, values, lambda n, _: known[n], self.scorer.metric.higher_is_better)

    def toggle(self, name: str) -> None:
        self.features = self.features ^ {name}


class ClosedWalk:
    """For least squares and ridge: tables swept on the set give every change without a refit.

    A set that is singular in some fold has no sweep; the walk then scores by the pivoted fit until the set is regular again,
    so that a score never depends on the way that led to it.
    """

    def __init__(self, engine: WalkedEngine, splits: list[ClosedSplit], start: frozenset[str]) -> None:
        self.engine, self.splits, self.features = engine, splits, start
        self._place = engine.place
        self._columns = [np.arange(s.width, dtype=np.int64) for s in splits]
        self._base = [np.diagonal(s.A).copy() for s in splits]
        self._regular = self._sweep_afresh()

    def _sweep_afresh(self) -> bool:
        self._A = [s.A.copy() for s in self.splits]
        self._V = [s.V.copy() for s in self.splits]
        self._inside = np.zeros(len(self._place), bool)
        return all(self._enter(name) for name in sorted(self.features, key=self._place.__getitem__))

    def _enter(self, name: str) -> bool:
        """Sweep one feature in; False, with the tables spoilt, when that is singular."""
        f = self._place[name]
        for k, split in enumerate(self.splits):
            scratch = np.empty((3, split.A.shape[0]))
            for c in range(split.starts[f], split.starts[f + 1]):
                if self._A[k][c, c] <= SINGULAR * self._base[k][c]:
                    return False
                toggle(self._A[k], self._V[k], c, scratch)
        self._inside[f] = True
        return True

    @property
    def score(self) -> Score:
        if not self._regular:
            return self.engine.score(self.features, self.engine.errors([self.features])[0])
        errors = np.array([np.diagonal(V)[s.width :].sum() for V, s in zip(self._V, self.splits, strict=True)])
        return self.engine.score(self.features, errors)

    def changes(self, names: Sequence[str] | None = None) -> StepScores:
        names = tuple(self._place if names is None else names)
        check_offered(names, self._place)
        errors = np.empty((len(self.splits), len(names)))
        offered = np.array([self._place[n] for n in names], np.int64)
        if self._regular:
            for k, s in enumerate(self.splits):
                errors_after_toggle(
                    self._A[k], self._V[k], self._base[k], s.starts, self._columns[k], offered, self._inside, SINGULAR, s.width, errors[k]
                )
        else:
            errors[:] = np.nan
        for j in np.flatnonzero(np.isnan(errors).any(0)):
            errors[:, j] = self.engine.errors([self.features ^ {names[j]}])[0]
        metric, share = self.engine.metrics[0], self.engine.folds.test_share
        here = self.features
        values = self.engine.values(errors.T)
        return StepScores(names, values, lambda n, v: Score(here ^ {n}, metric.name, v, share), metric.higher_is_better)

    def toggle(self, name: str) -> None:
        entering = name not in self.features
        self.features = self.features ^ {name}
        if not self._regular:
            self._regular = self._sweep_afresh()
        elif entering:
            self._regular = self._enter(name)
        else:
            self._leave(name)

    def _leave(self, name: str) -> None:
        f = self._place[name]
        for k, split in enumerate(self.splits):
            scratch = np.empty((3, split.A.shape[0]))
            for c in range(split.starts[f], split.starts[f + 1]):
                toggle(self._A[k], self._V[k], c, scratch)
        self._inside[f] = False
