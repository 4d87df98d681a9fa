"""The lens of any other model: a strategy that the user named, or elimination by permutation on folds inside the training rows.

Who goes in an elimination: the least important first, two fifths at a time of very many, a fifth of fewer, one by one where few
are left.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ModelError
from chaff.evaluate.fitted import FitAndPredict, FittedEngine, PreparedSplit, named_failure
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.lens import Path, judged
from chaff.methods.search.search_data import SearchData, Set
from chaff.methods.search.strategy import Strategy, path_of
from chaff.models.protocols import Model, Sample
from chaff.results.trail import Trail
from chaff.table.bins import Bins
from chaff.table.design import Design
from chaff.work import Work

DROP_SHARE = 0.2
MANY, MANY_SHARE = 120, 0.4  # over so many features the weakest are noise by a wide margin, and each size costs most
SINGLY = 8  # from so many features on one goes at a time


TieBreak = Callable[[Sequence[str]], Mapping[str, float]]


def without_weakest(
    current: Sequence[str],
    pinned: Collection[str],
    importance: Mapping[str, float],
    tie_break: TieBreak,
    repeats: Collection[str] = (),
    wanted: int | None = None,
) -> list[str]:
    """The features that are left when the weakest have gone; all of them where all are pinned.

    claims : what speaks for some features by themselves, looked up where equals are parted; then by name.
    repeats : go first, all of them in one step: columns that say the same share their importance, and would leave late, together.
    wanted : a size that is not to be stepped over.
    """
    size = len(current)
    share = MANY_SHARE if size > MANY else DROP_SHARE
    go = max(1, min(round(share * size), size - SINGLY)) if size > SINGLY else 1
    most = size - wanted if wanted is not None and wanted < size else size
    go = min(go, most)
    gone = {f for f in current if f in repeats and f not in pinned}
    if len(gone) > most:
        gone = set(weakest(sorted(gone), importance, most, tie_break))
    gone |= set(weakest([f for f in current if f not in pinned and f not in gone], importance, max(0, go - len(gone)), tie_break))
    return [f for f in current if f not in gone]


def weakest(names: Sequence[str], importance: Mapping[str, float], count: int, tie_break: TieBreak) -> list[str]:
    """So many of the least important, the least first; see `without_weakest`."""
    order = sorted(names, key=lambda f: (importance[f], f))
    if 0 < count < len(order) and importance[order[count - 1]] == importance[order[count]]:
        equal = [f for f in order if importance[f] == importance[order[count]]]
        known = tie_break(equal)
        order = [f for f in order if importance[f] < importance[order[count]]] + sorted(equal, key=lambda f: (known[f], f))
    return order[:count]


INNER = 2  # inner folds that the ranking is read from


@dataclass(frozen=True)
class ModelLens:
    """One model as it is."""

    model: Model
    strategy: Strategy | None = None

    @property
    def label(self) -> str:
        return self.model.label

    @property
    def needs_moments(self) -> bool:
        return False

    @property
    def variants(self) -> tuple[Model, ...]:
        return (self.model,)

    def paths(self, data: SearchData, where: int | None) -> list[Path]:
        """One path; see `Lens`."""
        offered = data.offered if where is None else data.offered_inside[where]
        table = data.table.with_features(tuple(offered))
        seed = data.work.key("lens") if self.strategy is None else data.work.seed  # a named strategy draws as `chaff.search` does
        engine = FittedEngine(table, self.model, (data.metric,), data.usable, Work(seed, 1))
        inner = engine if where is None else engine.inside(where)
        pinned = data.pinned & set(offered)
        repeats = data.repeats(where)
        sets, trail = self._sets(engine, inner, pinned, repeats, data, where) if offered else ([frozenset()], None)
        if where is None:
            return [Path(tuple(sets), trail=trail)]
        prepared = engine.splits[where]
        fit = FitAndPredict(self.model)
        return [judged(data, data.splits[where], sets, partial(_fitted, fit, prepared, table.features))]

    def _sets(
        self, engine: FittedEngine, inner: FittedEngine | None, pinned: Set, repeats: Collection[str], data: SearchData, where: int | None
    ) -> tuple[list[Set], Trail | None]:
        everything = frozenset(engine.table.features)
        trail = None
        sets: dict[int, Set] = {len(pinned): pinned, len(everything): everything, 0: frozenset()}
        if inner is not None and self.strategy is not None:
            scorer = SubsetScorer.on_engine(engine.table, self.model, data.metric, inner.folds, data.work, inner).limited(data.limits)
            work = data.work if where is None else replace(data.work, seed=data.work.key("inside", where))
            trail = path_of(self.strategy, scorer, pinned, work)
            sets |= {s: trail.moves[m].features for s, m in trail.best_by_size(scorer.affordable).items()}
        elif inner is not None:
            sets |= {len(s): s for s in _eliminated(inner, self.model, pinned, repeats, data.size) if data.affordable(s)}
        return [sets[s] for s in sorted(sets)], trail


def _fitted(fit: FitAndPredict, prepared: PreparedSplit, names: tuple[str, ...], features: Set) -> Floats:
    return fit((tuple(f for f in names if f in features), prepared))


def _eliminated(engine: FittedEngine, model: Model, pinned: Set, repeats: Collection[str], wanted: int | None) -> list[Set]:
    """Sets from all features down: repeats and the weakest first, a fifth at a time down to eight, then one by one."""
    current = list(engine.table.features)
    out = [frozenset(current)]
    splits = engine.splits[:INNER]
    while len(current) > 1 and not pinned >= set(current):
        rise = np.mean([_rise(engine, model, split, tuple(current)) for split in splits], axis=0)
        current = without_weakest(current, pinned, dict(zip(current, rise.tolist(), strict=True)), partial(_alone, engine), repeats, wanted)
        out.append(frozenset(current))
    return out


def _alone(engine: FittedEngine, names: Sequence[str]) -> dict[str, float]:
    """The score of each by itself, higher better."""
    sign = 1.0 if engine.metrics[0].higher_is_better else -1.0
    scores = engine.scores([frozenset([f]) for f in names], range(min(INNER, engine.folds.count)))[:, :, 0].mean(1)
    return dict(zip(names, np.round(sign * scores, 12).tolist(), strict=True))


def _rise(engine: FittedEngine, model: Model, split: PreparedSplit, names: tuple[str, ...]) -> Floats:
    """How much the score falls for each feature when its values are permuted among the test rows."""
    metric = engine.metrics[0]
    sign = 1.0 if metric.higher_is_better else -1.0
    train, test = split.learns.select(split.train, names), split.reads.select(split.test, names)
    with named_failure(model, split, names):
        fitted = model.fit(train, split.work)
    base = metric.of_predictions(split.truth, fitted.predict(test))
    permuted = split.work.stream("deal").permutation(len(split.truth.targets))
    return np.array([sign * (base - metric.of_predictions(split.truth, fitted.predict(with_permuted(test, f, permuted)))) for f in names])


def with_permuted(rows: Sample, feature: str, order: Ints) -> Sample:
    """The sample with one feature's cells taken from other rows, in whatever form it is."""
    return replace(rows, data=_permuted_data(rows.data, rows.features.index(feature), feature, order))


def _permuted_data(data: Any, place: int, feature: str, order: Ints) -> Any:
    if isinstance(data, Bins):
        codes = data.codes.copy()
        codes[place] = codes[place][order]
        return Bins(data.features, codes, data.counts, data.category)
    if isinstance(data, Design):
        X = data.X.copy()
        where = slice(int(data.layout.starts[place]), int(data.layout.starts[place + 1]))
        X[:, where] = X[order, where]
        return Design(data.layout, X)
    if hasattr(data, "assign"):
        return data.assign(**{feature: data[feature].take(order).set_axis(data.index)})
    raise ModelError(f"rows in the form {type(data).__name__} cannot be shuffled column by column")
