"""What may be held against chance: split standing on shared trees, a statistic of relevance, or a way of importance."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Protocol

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError, nearest
from chaff.evaluate.setting import Setting
from chaff.folds import Folds, make_folds
from chaff.methods.chance.standing import BinnedColumns, Targets, standing
from chaff.methods.importance.stage import Importance
from chaff.methods.importance.way import WAYS, Way
from chaff.methods.relevance.catalogue import NAMES, better
from chaff.methods.relevance.relevance_data import RelevanceData
from chaff.methods.relevance.stage import Relevance
from chaff.models.protocols import Model
from chaff.table.shuffle import with_target_order
from chaff.table.table import Table
from chaff.work import Work, silent, task

STANDING = "split standing"
FOLDS = 5  # of a way of importance on each target


class Measure(Protocol):
    """Something that gives every feature a number, the higher the better; NaN where it does not fit."""

    @property
    def label(self) -> str: ...
    def measure(self, table: Table, orders: Sequence[Ints], seeds: int, setting: Setting) -> tuple[Floats, Floats]:
        """Real values over seeds, float64 (seeds, features), and those of the shuffles, float64 (shuffles, features)."""
        ...


@dataclass(frozen=True)
class SplitGain:
    """Many shallow trees on three columns each, the same for the target and all its shuffles."""

    trees: int
    independent: bool
    label: str = STANDING

    def measure(self, table: Table, orders: Sequence[Ints], seeds: int, setting: Setting) -> tuple[Floats, Floats]:
        data = BinnedColumns.of(table, setting.work)
        share = standing(data, Targets.of(table, orders), self.trees, seeds, setting.work, self.independent)
        with np.errstate(invalid="ignore"):
            return share[0], _mean_of_known(share[1:])


def _mean_of_known(share: Floats) -> Floats:
    """Mean over seeds of what was drawn at all, (targets, features)."""
    known = ~np.isnan(share)
    total = np.where(known, share, 0.0).sum(1)
    answer: Floats = np.divide(total, known.sum(1), out=np.full(total.shape, np.nan), where=known.any(1))
    return answer


@dataclass(frozen=True)
class StatisticMeasure:
    """One statistic of relevance; bins that never saw the target are shared by all shuffles, others relearned."""

    stage: Relevance
    name: str

    @property
    def label(self) -> str:
        return self.name

    def measure(self, table: Table, orders: Sequence[Ints], seeds: int, setting: Setting) -> tuple[Floats, Floats]:
        self.stage.check_table(table)
        work = replace(setting.work, watch=silent)
        view = self.stage.view(table, work)
        real = statistic_values(self.stage, self.name, view)
        rerun = self.stage.bin_kind == "supervised"
        shuffled = setting.work.each(task(_statistic_of_deal, self, view, rerun), orders, "chance")
        return real[None], np.array(shuffled)


def statistic_values(stage: Relevance, name: str, view: RelevanceData) -> Floats:
    """A statistic, turned so that higher is better."""
    values = np.asarray(stage.values(view, name).to_numpy(float))
    way = better(name)
    return -values if way == "lower" else np.abs(values - (0.5 if name == "auc" else 0.0)) if way == "magnitude" else values


def _statistic_of_deal(measure: StatisticMeasure, view: RelevanceData, rerun: bool, order: Ints) -> Floats:
    permuted = with_target_order(view.table, order)
    return statistic_values(measure.stage, measure.name, replace(view, table=permuted, memo={} if rerun else view.memo))


@dataclass(frozen=True)
class OfModel:
    """A way of importance, the model refitted on every target."""

    stage: Importance

    @property
    def label(self) -> str:
        return self.stage.way.name

    def measure(self, table: Table, orders: Sequence[Ints], seeds: int, setting: Setting) -> tuple[Floats, Floats]:
        work = replace(setting.work, watch=silent)
        units: list[tuple[Table, int]] = [(table, k) for k in range(seeds)]
        units += [(with_target_order(table, order), seeds + s) for s, order in enumerate(orders)]
        result = setting.work.each(task(_importance_of, self.stage, work), units, "chance")
        return np.array(result[:seeds]), np.array(result[seeds:])


def _importance_of(stage: Importance, work: Work, unit: tuple[Table, int]) -> Floats:
    table, k = unit
    seed = replace(work, seed=work.key("chance", k))
    folds = make_folds(table, FOLDS, 1, seed)
    return measured(stage, table, folds, seed)


def measured(stage: Importance, table: Table, folds: Folds, work: Work) -> Floats:
    """Importance of every feature of a table, in their order."""
    result = stage.judge(table, Setting(folds, work=work))
    return np.asarray(result.frame["importance"].to_numpy(float))


def as_measure(by: Way | str | Mapping[str, Any], model: Model | str | Mapping[str, Any], trees: int, independent: bool) -> Measure:
    """What is meant by a name.

    Raises
    ------
    UsageError
        For a name that is neither a statistic nor a way; says what there is.
    """
    if by == STANDING:
        return SplitGain(trees, independent)
    if isinstance(by, str) and by in NAMES:
        return StatisticMeasure(Relevance([by], by=NAMES[by], confidence=None), NAMES[by])
    if isinstance(by, str) and by not in WAYS.choices:
        known = [STANDING, *(w for w in WAYS.choices if w != STANDING), *NAMES]
        raise UsageError(f"chance: unknown measure '{by}'; choose from {', '.join(known)}.{nearest(by, known)}")
    return OfModel(Importance(model=model, by=by))
