"""What a method that is compared makes of some rows: an order of the features, and a set for every size."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import Stage, UsesTarget
from chaff.methods.search.stage import SelectionSearch
from chaff.methods.search.strategy import Strategy, trail_of
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.table.table import Table

Set = frozenset[str]


@dataclass(frozen=True)
class FoldSets:
    """What one method made of some rows."""

    order: tuple[str, ...]
    """Features, the best first."""
    raw: Mapping[str, float]
    """What it measured; missing where it could not."""
    pinned: Set = frozenset()
    own: Set | None = None
    """What it keeps by its own rule, where it has one."""
    sets: Mapping[int, Set] | None = None
    """Of a search its set of each size; of a vote that for each size that the voters were asked for."""
    seconds: float = 0.0

    def at(self, size: int) -> Set:
        """Its set of that size, pinned features always in it; of a search the largest that is no larger."""
        if self.sets is not None:
            fit = [s for s in self.sets if s <= size]
            return self.sets[max(fit)] if fit else self.pinned
        rest = [f for f in self.order if f not in self.pinned]
        return self.pinned | set(rest[: max(0, size - len(self.pinned))])

    def scaled(self) -> dict[str, float]:
        """From 0 (the last) to 1 (the first) by place in the order."""
        n = len(self.order)
        return {f: 1.0 - k / max(n - 1, 1) for k, f in enumerate(self.order)}


class Method(Protocol):
    """A frozen dataclass."""

    @property
    def label(self) -> str: ...

    def judge(self, table: Table, model: Model, setting: Setting, pinned: Set) -> FoldSets:
        """On these rows only."""
        ...


@dataclass(frozen=True)
class StageMethod:
    """A stage that measures features: its ranking, and what it keeps where it has a cut; or the stage `search`."""

    label: str
    stage: Stage

    def judge(self, table: Table, model: Model, setting: Setting, pinned: Set) -> FoldSets:
        began = time.perf_counter()
        result = self.stage.judge(table, setting)
        if isinstance(result, SelectionSearch):
            curve = result.decided
            sets = {len(s): frozenset(s) for s in curve.sets}
            return _of_sets(sets, table.features, pinned, frozenset(result.chosen), began)
        assert isinstance(result, Findings)
        order = [str(f) for f in result.ranked().index if f in table.features]
        order += [f for f in table.features if f not in order]
        raw = {str(f): float(v) for f, v in result.frame[result.lead].items() if v == v and not isinstance(v, str)}
        own = None
        if isinstance(self.stage, UsesTarget) and self.stage.uses_target():
            own = frozenset(v.feature for v in self.stage.verdicts(result, setting) if v.stays) | pinned
        return FoldSets(tuple(order), raw, pinned, own, None, time.perf_counter() - began)


@dataclass(frozen=True)
class StrategyMethod:
    """A search of sets with the final model, on folds inside the rows."""

    label: str
    strategy: Strategy

    def judge(self, table: Table, model: Model, setting: Setting, pinned: Set) -> FoldSets:
        began = time.perf_counter()
        scorer = SubsetScorer(table, model, setting.metric, setting.folds, setting.work)
        trail = trail_of(self.strategy, scorer, pinned, setting.work)
        sets = {s: trail.moves[k].features for s, k in trail.best_by_size().items()}
        return _of_sets(sets, table.features, pinned, None, began)


def _of_sets(sets: Mapping[int, Set], features: Sequence[str], pinned: Set, own: Set | None, began: float) -> FoldSets:
    """The order in which features come in as sets grow."""
    first = {f: min([s for s, subset in sets.items() if f in subset] or [len(features) + 1]) for f in features}
    share = {f: np.mean([f in subset for subset in sets.values()]) for f in features}
    order = sorted(features, key=lambda f: (first[f], -share[f], f))
    raw = {f: float(first[f]) for f in features if first[f] <= len(features)}
    return FoldSets(tuple(order), raw, pinned, own, sets, time.perf_counter() - began)


@dataclass(frozen=True)
class Vote:
    """What at least so many of the other methods keep at a size: how many that really are is another number."""

    least: int
    label: str = "vote"

    def of(self, others: Sequence[FoldSets], pinned: Set) -> FoldSets:
        pooled = MeanRank().of(others, pinned)
        sizes = range(len(pooled.order) + 1)
        held = {s: [o.at(s) for o in others] for s in sizes}
        sets = {s: pinned | {f for f in pooled.order if sum(f in subset for subset in held[s]) >= self.least} for s in sizes}
        return FoldSets(pooled.order, {}, pinned, None, sets, sum(o.seconds for o in others))


@dataclass(frozen=True)
class MeanRank:
    """The mean place over the other methods."""

    label: str = "mean rank"

    def of(self, others: Sequence[FoldSets], pinned: Set) -> FoldSets:
        names = sorted({f for o in others for f in o.order})
        places = [{f: k for k, f in enumerate(o.order)} for o in others]
        mean = {f: float(np.mean([p.get(f, len(p)) for p in places])) for f in names}
        order = tuple(sorted(names, key=lambda f: (mean[f], f)))
        return FoldSets(order, {f: mean[f] + 1 for f in names}, pinned, None, None, sum(o.seconds for o in others))
