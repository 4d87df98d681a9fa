"""Honest: the score of the whole plan on rows that no choice of it has seen, with its interval, and the keep-up test.

The whole plan rerun in each outer fold: the most expensive and most honest estimate.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.decide.plan import Plan
from chaff.decide.run_stages import StagesRun, run_stages
from chaff.errors import ChaffError
from chaff.evaluate.fitted import truth_of
from chaff.evaluate.setting import Setting
from chaff.folds import make_folds
from chaff.methods.search.honest_losses import HonestLosses
from chaff.methods.search.nested_error import NestedError
from chaff.methods.search.search_data import SearchData, averaged
from chaff.methods.search.size_choice import keep_up_of
from chaff.methods.search.stage import SelectionSearch
from chaff.metrics import METRICS
from chaff.models.forms import learn_form
from chaff.models.protocols import Model
from chaff.results.digits import score
from chaff.results.plain import plain
from chaff.results.score import corrected_error
from chaff.stats.paired_loss import KeepUp, Pooled, pooled
from chaff.stats.tail_probabilities import t_quantile
from chaff.table.table import Table
from chaff.visible import Shown
from chaff.work import Work


@dataclass(frozen=True)
class NestedRun:
    """One outer fold: the plan on its training rows, scored on its test rows."""

    plan: Plan
    setting: Setting
    data: SearchData
    model: Model
    """Scores the sets where the plan's last stage names no model of its own."""

    def __call__(self, number: int) -> tuple[Floats, Floats, float, float, frozenset[str]]:
        """(losses of the kept set, of the full set, the metric of both, the kept set)."""
        g = self.data
        train, test = g.rows(g.splits[number])
        work = Work(g.work.key("anew", number), 1)
        try:
            folds = make_folds(train, self.plan.score.folds_for(train), self.plan.score.repeats_for(train), work)
            setting = replace(self.setting, folds=folds, work=work, scorers={}, earlier={}, before=None, whole=None)
            stages_run = run_stages(self.plan, train, setting)
            kept, full = frozenset(stages_run.kept), frozenset(stages_run.full)
            models = models_of(stages_run, self.model)
        except ChaffError:  # too little is left to go through the plan: nothing is kept
            kept, full, models = frozenset(), frozenset(g.table.features), (self.model, self.model)
        result = [fitted_losses(g, m, s, train, test, work) for m, s in zip(models, (kept, full), strict=True)]
        return result[0][0], result[1][0], result[0][1], result[1][1], kept


def models_of(stages_run: StagesRun, otherwise: Model) -> tuple[Model, Model]:
    """The model through which the last search decided, and the one through which the full set is at its best."""
    last = stages_run.reports[-1].result if stages_run.reports else None
    return (last.decided.model, last.curves[last.full_curve].model) if isinstance(last, SelectionSearch) else (otherwise, otherwise)


def fitted_losses(g: SearchData, model: Model, features: frozenset[str], train: Table, test: Table, work: Work) -> tuple[Floats, float]:
    """(losses of the test rows, the metric) of one set, fitted on the training rows."""
    truth = truth_of(train, test)
    names = tuple(f for f in train.features if f in features)
    if not names:
        predicted: Floats = np.broadcast_to(truth.train_means, truth.targets.shape)
    else:
        a, b = train.with_features(names), test.with_features(names)
        learns = learn_form(model.learns, a, work)
        reads = learns if model.reads == model.learns else learn_form(model.reads, a, work)
        predicted = model.fit(learns.apply(a), work).predict(reads.apply(b))
    return g.losses(truth, predicted).loss, g.metric.of_predictions(truth, predicted)


def nested_losses(plan: Plan, setting: Setting, data: SearchData, model: Model) -> HonestLosses:
    """Honest losses from outer folds, the plan rerun in each."""
    once = data.splits[0].repeat
    data = replace(data, splits=tuple(s for s in data.splits if s.repeat == once))  # each costs as much as the run itself
    done = data.work.each(NestedRun(plan, setting, data, model), range(len(data.splits)), "honest score, the plan rerun")
    kept = data.on_rows([[d[2]] for d in done], [d[0][None] for d in done])
    full = data.on_rows([[d[3]] for d in done], [d[1][None] for d in done])
    return HonestLosses(kept.losses[0], full.losses[0], data.none.losses[0], kept.values[0], full.values[0], tuple(d[4] for d in done))


LEVEL = 0.90


@dataclass(frozen=True, repr=False)
class Honest(Shown):
    """What the kept set scores on rows that neither its search nor its choice has seen."""

    mean: float
    se: float
    """By nested cross-validation, what all rows would still teach, and by how much the folds' own choices moved the score."""
    interval: tuple[float, float]
    """90 %."""
    metric: str
    model: str
    """The deciding model."""
    seen: float
    """What the search itself saw of the kept set."""
    how: str
    """In words."""
    rows: int
    keep_up: KeepUp = field(repr=False)
    """Kept against full."""
    full: tuple[float, float] = field(repr=False, default=(float("nan"), float("nan")))
    """(mean, se) of the full set on the same rows."""
    nothing: float = field(repr=False, default=float("nan"))
    inflation: float = field(repr=False, default=1.0)
    """By how much the error is wider than rows alone would say."""
    slope: float = field(repr=False, default=float("nan"))
    """Change of the score for a unit of mean loss."""

    @property
    def optimism(self) -> float:
        """By how much the score that the search saw is better than the honest one."""
        return (self.seen - self.mean) * (1.0 if METRICS[self.metric].higher_is_better else -1.0)

    def __str__(self) -> str:
        low, high = self.interval
        label = METRICS[self.metric].label
        return f"honest {label} {score(self.mean)} (90 %: {score(low)} to {score(high)}) of {self.model}, {self.how}"

    def as_plain(self) -> dict[str, Any]:
        return {
            "mean": plain(self.mean),
            "se": plain(self.se),
            "interval": [plain(x) for x in self.interval],
            "metric": self.metric,
            "model": self.model,
            "seen": plain(self.seen),
            "optimism": plain(self.optimism),
            "how": self.how,
            "rows": self.rows,
            "keep_up": keep_up_as_plain(self.keep_up),
        }


def keep_up_as_plain(k: KeepUp) -> dict[str, Any]:
    d = k.difference
    return {
        "answer": k.answer,
        "difference": plain(d.mean),
        "se": plain(d.se),
        "allowance": plain(k.allowance),
        "rows_to_tell": k.rows_to_tell,
    }


def honest_of(honest_losses: HonestLosses, data: SearchData, error: NestedError, model: str, seen: float, how: str) -> Honest:
    """The honest score from row losses.

    Parameters
    ----------
    error : NestedError
        The error of rows is multiplied by its inflation; what all rows would still teach makes the interval wider, since folds
        learn on four fifths of them, and so does what the folds' own choices moved the score from the one of the kept set.
    seen : float
        What the search saw.
    """
    kept, full = (averaged(x) for x in (honest_losses.kept, honest_losses.full))
    own = scored(data, honest_losses.kept, honest_losses.values, error.inflation)
    whole = scored(data, honest_losses.full, honest_losses.full_values, error.inflation)
    taught, moved = error.learning * np.nan_to_num(own.slope), np.nan_to_num(seen - own.score)
    se = float(np.sqrt(own.se**2 + taught**2 + moved**2))
    reach = t_quantile(0.5 + LEVEL / 2, max(own.df, 1.0)) * se
    return Honest(
        own.score,
        se,
        (own.score - reach, own.score + reach),
        data.metric.name,
        model,
        seen,
        how,
        int((~np.isnan(kept)).sum()),
        keep_up_of(kept, full, data, inflation=error.inflation),
        (whole.score, whole.se),
        scored(data, honest_losses.none, data.none.values[0], 1.0).score,
        error.inflation,
        own.slope,
    )


def scored(data: SearchData, losses: Floats, values: Floats, inflation: float) -> Pooled:
    """One score from losses (repeats, rows); from the values of the splits where a row has no loss under the metric."""
    metric = data.metric
    loss, none = averaged(losses), averaged(data.none.losses[0])
    rows = np.flatnonzero(~np.isnan(loss) & ~np.isnan(none))
    units = data.units.take(rows)
    if metric.row_loss is None or metric.of_losses is None:
        d = units.mean(loss[rows])
        seen = values[~np.isnan(values)]
        return Pooled(float(seen.mean()) if seen.size else float("nan"), corrected_error(values, data.folds.test_share), d.df, float("nan"))
    return pooled(metric.of_losses, loss[rows], none[rows], units, inflation)
