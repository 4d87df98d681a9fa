"""The whole plan rerun in each outer fold: the most expensive and most honest estimate."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from chaff.arrays import Floats
from chaff.decide.plan import Plan
from chaff.decide.run_stages import StagesRun, run_stages
from chaff.errors import ChaffError
from chaff.evaluate.fitted import truth_of
from chaff.evaluate.setting import Setting
from chaff.folds import make_folds
from chaff.methods.search.honest_losses import HonestLosses
from chaff.methods.search.search_data import SearchData
from chaff.methods.search.stage import SelectionSearch
from chaff.models.forms import learn_form
from chaff.models.protocols import Model
from chaff.table.table import Table
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
