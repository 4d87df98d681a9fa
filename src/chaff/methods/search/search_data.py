"""What every lens of a search reads: the same rows, splits and metric, and what is offered inside each split."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ChaffError
from chaff.evaluate.closed_split import part_sums
from chaff.evaluate.fitted import truth_of
from chaff.evaluate.limits import Limits
from chaff.evaluate.setting import Setting
from chaff.folds import Folds, Split
from chaff.methods.repeats import repeats_in
from chaff.metrics import Metric, RowLosses, Truth, default_metric, find_metric, parts_of_r2
from chaff.models.protocols import Model
from chaff.stats.paired_loss import Units
from chaff.table.moments import Moments
from chaff.table.on_disk.arrays import room
from chaff.table.repeated_rows import repeated_rows
from chaff.table.set_costs import Prices
from chaff.table.table import Table
from chaff.work import Work, task

Set = frozenset[str]
FEW_TO_SHARE = 1_000  # columns up to which sums are made once for all units
SHARED = 1.5  # times what one unit is offered


@dataclass(frozen=True)
class SearchData:
    """What all lenses share."""

    table: Table
    folds: Folds
    splits: tuple[Split, ...]
    """Those whose training rows are at least two parts, so that a search can be rerun inside them."""
    metric: Metric
    """By which sizes and lenses are chosen."""
    row_metric: Metric
    """The same where a row has a loss under it, else the default one: what keep-up and honest score are made of."""
    pinned: Set
    work: Work = field(repr=False)
    repeated: Ints | None = field(repr=False, default=None)
    """int64 (rows,): rows that repeat one another have one number; None where none does."""
    offered_inside: tuple[tuple[str, ...], ...] = field(repr=False, default=())
    """Per split, what the stages before leave when they are rerun on its training rows."""
    offered: tuple[str, ...] = field(repr=False, default=())
    """What they left on all rows; the table holds what is offered anywhere."""
    limits: Limits = field(default_factory=Limits)
    """What each search may spend, and what a set may cost."""
    size: int | None = None
    """How many features were asked for: every curve has a set of that size."""
    _repeats: dict[int | None, dict[str, str]] = field(default_factory=dict, repr=False, compare=False)

    @classmethod
    def of(cls, table: Table, setting: Setting, models: Sequence[Model]) -> SearchData:
        metric = common_metric(table, setting, models)
        row_metric = metric if metric.row_loss is not None else default_metric(table.target.task)
        splits = tuple(s for s in setting.folds.splits if len(s.train) > 1) or setting.folds.splits
        pinned = frozenset(f for f in table.features if setting.kept_by_pin(f))
        repeated = repeated_rows(table).units
        inside = [table.features] * len(splits)
        wide = table
        if setting.before is not None:
            rerun = task(_offered_inside, setting.before, setting.folds, pinned)
            inside = setting.work.each(rerun, splits, "search, stages before it inside the folds")
            further = [f for f in dict.fromkeys(f for subset in inside for f in subset) if f not in table.features]
            wide = table.with_features((*table.features, *further))
        return cls(wide, setting.folds, splits, metric, row_metric, pinned, setting.work, repeated, tuple(inside), table.features)

    @cached_property
    def prices(self) -> Prices:
        return Prices.of(self.table)

    def affordable(self, features: Set) -> bool:
        """Whether a set may cost what it costs."""
        return self.prices.allow(features, self.limits.total_cost)

    def repeats(self, where: int | None) -> dict[str, str]:
        """Repeat → the column that stays for it, on the training rows of split number `where`; on all rows for None. Nothing in
        a fold where there is nothing on all rows."""
        if where not in self._repeats:
            if where is not None and not self.repeats(None):
                return {}
            train = self.table if where is None else self.rows(self.splits[where])[0]
            offered = self.offered if where is None else self.offered_inside[where]
            self._repeats[where] = repeats_in(train, offered, self.pinned)
        return self._repeats[where]

    @property
    def sign(self) -> float:
        return 1.0 if self.metric.higher_is_better else -1.0

    @property
    def times(self) -> int:
        """How often the folds are dealt."""
        return len(self.folds.parts)

    @property
    def usable(self) -> Folds:
        """The folds with these splits only."""
        return Folds(self.folds.parts, self.splits, self.folds.how, self.folds.ordered)

    @property
    def units(self) -> Units:
        """Weights, and what makes rows no independent witnesses."""
        t = self.table
        return Units(t.weights, t.groups if t.groups is not None else self.repeated, t.order)

    def rows(self, split: Split) -> tuple[Table, Table]:
        """(training rows, test rows)."""
        train, test = self.folds.rows(split)
        return self.table.take(train), self.table.take(test)

    def truth(self, split: Split) -> Truth:
        return truth_of(*self.rows(split))

    @cached_property
    def none(self) -> OnRows:
        """What knowing nothing but the training rows' means loses."""
        values, losses = [], []
        for split in self.splits:
            truth = self.truth(split)
            nothing = np.broadcast_to(truth.train_means, truth.targets.shape)
            values.append([self.metric.of_predictions(truth, nothing)])
            losses.append([self.losses(truth, nothing).loss])
        return self.on_rows(values, losses)

    @cached_property
    def test_rows(self) -> list[tuple[int, Ints]]:
        """(repeat, test rows) of each split."""
        return [(s.repeat, self.folds.rows(s)[1]) for s in self.splits]

    @cached_property
    def tested(self) -> Ints:
        """Rows that some split tests, ascending."""
        hit = np.zeros(len(self.table), bool)
        for split in self.splits:
            hit[self.folds.rows(split)[1]] = True
        return np.flatnonzero(hit)

    def losses(self, truth: Truth, predicted: Floats) -> RowLosses:
        return self.row_metric.losses(truth, predicted)

    @cached_property
    def shares_sums(self) -> bool:
        """Whether all units stand on the same sums. Where a cut lets other columns through in every fold, sums over all that any of them
        offers would be many times what one of them needs."""
        most = max(map(len, (self.offered, *self.offered_inside)), default=0)
        return len(self.table.features) <= max(FEW_TO_SHARE, SHARED * most)

    @cached_property
    def moments(self) -> list[list[Moments]]:
        """Of every part of every repeat, over all features: what closed forms stand on."""
        return part_sums(self.table, self.table.features, self.folds, self.work)

    def on_rows(self, values: Sequence[Sequence[float]], losses: Sequence[Sequence[Floats] | Floats]) -> OnRows:
        """From what each split gave: values (sets,), and a line of losses (test rows,) for each set.

        Of R² each split's part in that of all test rows (`chaff.metrics.parts_of_r2`).
        """
        sets = len(values[0])
        out = self._placed(losses, sets)
        result = np.array(values, float).T.reshape(sets, len(self.splits))
        means = np.array([self.mean_losses(out[k]) for k in range(sets)]).reshape(result.shape)
        if self.metric.name == "r2":
            result = parts_of_r2(means, self._nothing)
        return OnRows(result, out, means)

    def _placed(self, losses: Sequence[Sequence[Floats] | Floats], sets: int) -> Floats:
        """float64 (sets, repeats, rows) from what each split gave."""
        out = room(self.table.source.spill, (sets, self.times, len(self.table)))
        rows = [self.folds.rows(split)[1] for split in self.splits]
        for k in range(sets):
            out[k] = np.nan
            for split, test, subset in zip(self.splits, rows, losses, strict=True):
                out[k, split.repeat, test] = subset[k]
        return out

    @cached_property
    def test_weights(self) -> Floats:
        """float64 (splits,): the weight of each split's test rows."""
        w = self.table.weights
        return np.array([float(len(r) if w is None else w[r].sum()) for _, r in self.test_rows])

    def mean_losses(self, losses: Floats) -> Floats:
        """Weighted mean loss of each split's test rows, from (repeats, rows)."""
        w = self.table.weights
        rows = [self.folds.rows(s)[1] for s in self.splits]
        return np.array(
            [np.average(losses[s.repeat, r], weights=None if w is None else w[r]) for s, r in zip(self.splits, rows, strict=True)]
        )

    @cached_property
    def _nothing(self) -> Floats:
        """Mean loss of knowing nothing, of each split."""
        losses = [[self.losses(t, np.broadcast_to(t.train_means, t.targets.shape)).loss] for t in map(self.truth, self.splits)]
        return self.mean_losses(self._placed(losses, 1)[0])


def _offered_inside(before: Callable[[Ints], tuple[str, ...]], folds: Folds, pinned: Set, split: Split) -> tuple[str, ...]:
    """Features that the stages before leave on the training rows of one split."""
    try:
        left = before(folds.rows(split)[0])
    except ChaffError:  # a stage that leaves nothing of these rows
        left = ()
    return (*left, *sorted(pinned - set(left)))


@dataclass(frozen=True)
class OnRows:
    """Some sets of features on the splits of a data."""

    values: Floats
    """float64 (sets, splits), in the metric's own units."""
    losses: Floats
    """float64 (sets, repeats, rows): of each row in each repeat; NaN where it is not tested."""
    mean_losses: Floats
    """float64 (sets, splits)."""

    def rows(self, k: int) -> Floats:
        """Losses of set k, float64 (rows,), repeats averaged first."""
        return averaged(self.losses[k])


def averaged(losses: Floats) -> Floats:
    """float64 (rows,) from (repeats, rows): the mean over the repeats that test a row, NaN where none does."""
    seen = ~np.isnan(losses)
    count = seen.sum(0)
    return np.where(count > 0, np.where(seen, losses, 0.0).sum(0) / np.maximum(count, 1), np.nan)


def common_metric(table: Table, setting: Setting, models: Sequence[Model]) -> Metric:
    """The run's metric; else the default one where every model gives what it needs, else R² (of the class indicators)."""
    task_, classes = table.target.task, len(table.target.classes)
    if setting.metric is not None:
        return find_metric(setting.metric, task_, classes)
    metric = default_metric(task_)
    return metric if all(metric.needs in m.gives for m in models) else find_metric("r2", task_)
