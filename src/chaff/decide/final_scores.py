"""Closing: what the selection costs or gains, on rows that no choice has seen and on the holdout."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.decide.honest import Honest, honest_of, nested_losses, scored
from chaff.decide.plan import Plan
from chaff.decide.row_sample import RowSample
from chaff.decide.run_stages import StagesRun
from chaff.errors import ChaffError
from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import name_of
from chaff.folds import one_split
from chaff.methods.search.additions import row_losses, split_losses
from chaff.methods.search.honest_losses import HonestLosses
from chaff.methods.search.lenses import built_in_lenses, lens_of, other_lens
from chaff.methods.search.nested_error import nested_error
from chaff.methods.search.search_data import SearchData, averaged
from chaff.methods.search.size_choice import keep_up_of
from chaff.methods.search.stage import SelectionSearch
from chaff.metrics import METRICS, Metric, beside
from chaff.models.protocols import Model
from chaff.stats.paired_loss import KeepUp, Units, pooled
from chaff.stats.tail_probabilities import t_quantile
from chaff.table.repeated_rows import repeated_rows
from chaff.table.table import Table
from chaff.visible import Shown

HonestMode = str  # "quick", "cheap" or "full"
MOST_OFFERED = 5_000  # columns that a line of the table of final scores is fitted for
HONEST_MODES = ("quick", "cheap", "full")


@dataclass(frozen=True)
class Scored:
    """A score with its error; NaN where there is none."""

    mean: float
    se: float = float("nan")


@dataclass(frozen=True)
class Line:
    """One set of features in the table of final scores."""

    name: str
    features: tuple[str, ...]
    honest: Scored
    """The deciding model on rows that no choice has seen."""
    beside: Scored
    """The second metric, from the same folds."""
    holdout: Scored
    other: Scored
    """The other lens, on the folds."""


@dataclass(frozen=True)
class Gap:
    """Kept less full on the same rows, in the metric's units, with a 95 % interval."""

    mean: float
    low: float
    high: float


@dataclass(frozen=True, repr=False)
class FinalScores(Shown):
    """What the selection costs or gains."""

    full: tuple[str, ...]
    kept: tuple[str, ...]
    metric: Metric
    beside: Metric | None
    model: str
    """The deciding model."""
    other: str
    """The other lens; empty where there is none."""
    lines: tuple[Line, ...]
    """All columns offered, full, what each stage left, kept, nothing."""
    honest: Honest | None
    """None where it was left out (quick)."""
    other_keep_up: KeepUp | None
    holdout_gap: Gap | None
    honest_gap: Gap | None
    folds: str
    holdout_rows: int
    deciding: Model
    holdout_repeats: int = 0
    """Holdout rows that repeat a training row."""
    full_model: str = ""
    """The model through which the full set is at its best: what the kept set is held against."""
    more_rows: int | None = None
    """With the full set kept: about how many more rows would tell whether a smaller one keeps up."""

    def line(self, name: str) -> Line:
        return next(line for line in self.lines if line.name == name)

    def __str__(self) -> str:
        return f"{len(self.kept)} of {len(self.full)} features kept{': ' if self.kept else ''}{', '.join(self.kept)}"


@dataclass(frozen=True)
class Decided:
    """Who decides, and on what data."""

    model: Model
    full: Model
    """Through which the full set is at its best."""
    other: Model | None
    data: SearchData
    """Over every column that takes part."""
    trail: SelectionSearch | None


def score_final_sets(table: Table, sample: RowSample, held: Ints, plan: Plan, stages_run: StagesRun, way: HonestMode) -> FinalScores:
    """Score all columns offered, the full set, what each stage left, and the kept set.

    Parameters
    ----------
    table : Table
        All rows.
    sample : Desk
        The rows that models see.
    held : int64
        Holdout rows as positions in `table`.
    way : "quick", "cheap" or "full"
        No honest score; from the search's own folds; the whole plan rerun in each outer fold.
    """
    setting, train = stages_run.setting, sample.train
    taking_part, judged = _taking_part(stages_run, train), set(stages_run.full) | set(stages_run.kept)
    offered = tuple(f for f in train.features if f in taking_part)
    if len(offered) > MOST_OFFERED:  # too many to be fitted together: the full set stands for them
        offered = tuple(f for f in train.features if f in judged)
    decided = _deciding(train.with_features(offered), stages_run, setting)
    data = decided.data
    honest = None if way == "quick" else _honest(plan, stages_run, setting, decided, way)
    inflation = honest.inflation if honest is not None else 1.0
    sets = {"all candidates": offered, "full": stages_run.full, **_between(stages_run), "kept": stages_run.kept}
    folds_lines = _on_folds(decided, sets, honest, inflation)
    second = _beside(decided, sets)
    others = _other(decided, sets)
    holdout, gap = _on_holdout(sample.table, decided, sample.held, sample.rows, sets)
    nothing = scored(data, data.none.losses[0], data.none.values[0], 1.0)
    lines = [Line(n, sets[n], folds_lines[n], second[1].get(n, NO), holdout.get(n, NO), others[0].get(n, NO)) for n in sets]
    nothing_line = Line(
        "nothing", (), Scored(nothing.score), second[1].get("nothing", NO), holdout.get("nothing", NO), Scored(nothing.score)
    )
    return FinalScores(
        stages_run.full, stages_run.kept, data.metric, second[0], decided.model.label, decided.other.label if decided.other else "",
        (*lines, nothing_line), honest, others[1], gap, _honest_gap(honest), setting.folds.how, int(sample.held.size), decided.model,
        _repeats_in_holdout(table, held), decided.full.label, _more_rows(decided, stages_run),
    )  # fmt: skip


NO = Scored(float("nan"))


def _taking_part(stages_run: StagesRun, train: Table) -> set[str]:
    """Features that a model can take and nobody blocked: no dates, no texts."""
    blocked = {v.feature for v in stages_run.ledger.verdicts if v.blocked or (v.by == "pin" and v.verdict == "drop")}
    words = {f for f in train.features if train.kind(f) in ("date", "text") or train.column(f).missing.all()}
    return (set(train.features) - blocked - words) | set(stages_run.kept) | set(stages_run.full)


def _between(stages_run: StagesRun) -> dict[str, tuple[str, ...]]:
    """Sets that stages before the last left, where they cost columns: name → features."""
    out: dict[str, tuple[str, ...]] = {}
    before = stages_run.full
    for report in stages_run.reports[:-1]:
        left = report.kept
        if set(left) < set(before):
            out[f"after {name_of(report.stage)}"] = left
            before = left
    return out


def _deciding(train: Table, stages_run: StagesRun, setting: Setting) -> Decided:
    last = stages_run.reports[-1].result
    if isinstance(last, SelectionSearch):
        lenses = last.lenses
        curve, own = last.curves[last.full_curve if not last.chosen else last.choice.curve], last.lens_of_curve[last.choice.curve]
        models = [m for lens in lenses for m in lens.variants]
        data = SearchData.of(train, _plain(setting), models)
        if len(lenses) > 1:
            other: Model | None = last.best_curves()[1 - own].model
        else:
            other = _if_it_serves(other_lens(lenses[own], train, setting).variants[0], data.metric)
        return Decided(curve.model, last.curves[last.full_curve].model, other, data, last)
    named = setting.model
    lenses = (lens_of(named, None),) if named is not None else built_in_lenses(train, setting)
    models = [m for lens in lenses for m in lens.variants]
    data = SearchData.of(train, _plain(setting), models)
    best = [max(lens.variants, key=lambda m: _mean_score(stages_run.full, m, data)) for lens in lenses]
    order = sorted(best, key=lambda m: -_mean_score(stages_run.full, m, data))
    other = order[1] if len(order) > 1 else _if_it_serves(other_lens(lenses[0], train, setting).variants[0], data.metric)
    return Decided(order[0], order[0], other, data, None)


def _more_rows(decided: Decided, stages_run: StagesRun) -> int | None:
    """Where the full set is kept: how many rows more the likeliest smaller set of its curve would take to be told."""
    trail = decided.trail
    if trail is None or set(stages_run.kept) != set(stages_run.full) or trail.choice.nothing:
        return None
    full, curve = averaged(trail.curves[trail.full_curve].losses[-1]), trail.decided
    result = [keep_up_of(averaged(curve.losses[k]), full, trail.data).rows_to_tell for k in range(1, len(curve.sizes) - 1)]
    rows = [n - len(trail.data.table) for n in result if n is not None]
    return min((n for n in rows if n > 0), default=None)


def _plain(setting: Setting) -> Setting:
    return replace(setting, before=None)


def _if_it_serves(model: Model, metric: Metric) -> Model | None:
    return model if metric.needs in model.gives else None


def _mean_score(features: Sequence[str], model: Model, data: SearchData) -> float:
    """Minus the mean loss of a set."""
    return -float(np.nanmean(row_losses([frozenset(features)], model, data)[0]))


def _honest(plan: Plan, stages_run: StagesRun, setting: Setting, decided: Decided, way: HonestMode) -> Honest:
    trail, data = decided.trail, decided.data
    label = decided.model.label
    if trail is not None and way == "cheap":
        error = nested_error(trail.data, decided.model, frozenset(stages_run.kept))
        seen = float(trail.decided.values[trail.choice.place].mean())
        how = f"{setting.folds.how}; size and model of each fold chosen on the others"
        return honest_of(_against(trail, stages_run.full, decided), trail.data, error, label, seen, how)
    error = nested_error(data, decided.model, frozenset(stages_run.kept))
    honest_losses = nested_losses(plan, _plain(setting), data, decided.model)
    if trail is not None:
        seen = float(trail.decided.values[trail.choice.place].mean())
    else:
        own = split_losses([frozenset(stages_run.kept)], decided.model, data)[0]
        seen = scored(data, own, np.array([np.nan]), 1.0).score
    return honest_of(honest_losses, data, error, label, seen, f"{setting.folds.how}; the whole plan rerun in each")


def _against(trail: SelectionSearch, full: Sequence[str], decided: Decided) -> HonestLosses:
    """The promise of a search, held against the full set where a stage between the screen and the search cut that down."""
    if set(full) == set(trail.offered):
        return trail.honest_losses
    at = [split_losses([frozenset(full)], model, decided.data)[0] for model in dict.fromkeys((decided.full, decided.model))]
    losses = min(at, key=lambda result: float(np.nanmean(result)))
    return replace(trail.honest_losses, full=losses, full_values=np.full(len(trail.data.splits), np.nan))


def _on_folds(decided: Decided, sets: dict[str, tuple[str, ...]], honest: Honest | None, inflation: float) -> dict[str, Scored]:
    """Honest scores of full and kept; the others are sets that no search chose, fitted on the same folds."""
    out: dict[str, Scored] = {}
    data = decided.data
    known = ("full", "kept") if honest is not None else ()
    fixed = {n: frozenset(s) for n, s in sets.items() if n not in known and not (known and set(s) == set(sets["full"]))}
    result = list(split_losses(list(fixed.values()), decided.model, data)) if fixed else []
    for n, losses in zip(fixed, result, strict=True):
        one = scored(data, losses, np.array([np.nan]), inflation)
        out[n] = Scored(one.score, one.se)
    if honest is not None:
        out["full"], out["kept"] = Scored(*honest.full), Scored(honest.mean, honest.se)
    return {n: out[n] if n in out else out["full"] for n in sets}


def _beside(decided: Decided, sets: dict[str, tuple[str, ...]]) -> tuple[Metric | None, dict[str, Scored]]:
    """The second metric of full and kept, on the folds."""
    data, target = decided.data, decided.data.table.target
    metric = beside(target.task, len(target.classes))
    if metric.needs not in decided.model.gives or metric.name == data.metric.name:
        return None, {}
    both = set(sets["full"]) | set(sets["kept"])
    names = tuple(f for f in data.table.features if f in both)
    scorer = SubsetScorer(data.table.with_features(names), decided.model, metric.name, data.usable, data.work)
    full, kept, nothing = scorer.many([sets["full"], sets["kept"], []])
    pairs = (("full", full), ("kept", kept), ("nothing", nothing))
    return metric, {n: Scored(float(np.nanmean(s.values)), s.se) for n, s in pairs}


def _other(decided: Decided, sets: dict[str, tuple[str, ...]]) -> tuple[dict[str, Scored], KeepUp | None]:
    """Full and kept through the other lens, and whether the kept set keeps up there."""
    if decided.other is None:
        return {}, None
    data = decided.data
    try:
        full, kept = split_losses([frozenset(sets["full"]), frozenset(sets["kept"])], decided.other, data)
    except ChaffError:
        return {}, None
    a, b = (scored(data, x, np.array([np.nan]), 1.0) for x in (full, kept))
    answer = keep_up_of(averaged(kept), averaged(full), data)
    return {"full": Scored(a.score, a.se), "kept": Scored(b.score, b.se)}, answer


def _on_holdout(
    table: Table, decided: Decided, held: Ints, rows: Ints, sets: dict[str, tuple[str, ...]]
) -> tuple[dict[str, Scored], Gap | None]:
    """Every set fitted on all training rows and scored on the holdout."""
    if not held.size:
        return {}, None
    data = decided.data
    requested = {n: frozenset(sets[n]) for n in sets if n in ("all candidates", "full", "kept")} | {"nothing": frozenset()}
    wide = table.with_features(tuple(f for f in data.table.features if any(f in s for s in requested.values())))
    scorer = SubsetScorer(wide, decided.model, data.row_metric.name, one_split(wide, rows, held), data.work)
    losses = [one[0] for one in scorer.losses(list(requested.values()))]
    test = wide.take(held)
    units = test.units or Units()
    if data.metric.of_losses is None or data.metric.row_loss is None:
        by_metric = SubsetScorer(wide, decided.model, data.metric.name, one_split(wide, rows, held), data.work)
        return {n: Scored(s.mean) for n, s in zip(requested, by_metric.many(list(requested.values())), strict=True)}, None
    out = {}
    for n, result in zip(requested, losses, strict=True):
        one = pooled(data.metric.of_losses, result.loss, result.none, units)
        out[n] = Scored(one.score, one.se if n != "nothing" else float("nan"))
    place = list(requested)
    kept, full = losses[place.index("kept")], losses[place.index("full")]
    one = pooled(data.metric.of_losses, kept.loss, kept.none, units)
    return out, _gap(out["kept"].mean - out["full"].mean, one.slope, kept.loss - full.loss, units, 1.0)


def _gap(mean: float, slope: float, d: Floats, units: Units, inflation: float) -> Gap:
    result = units.mean(slope * d, inflation)
    reach = t_quantile(0.975, result.df) * result.se if result.df > 0 else float("inf")
    return Gap(mean, mean - reach, mean + reach)


def _honest_gap(honest: Honest | None) -> Gap | None:
    """Kept less full of the honest scores, its interval from the paired losses."""
    if honest is None or METRICS[honest.metric].row_loss is None:
        return None
    d = honest.keep_up.difference
    reach = abs(honest.slope) * d.se * (t_quantile(0.975, d.df) if d.df > 0 else float("inf"))
    mean = honest.mean - honest.full[0]
    return Gap(mean, mean - reach, mean + reach)


def _repeats_in_holdout(table: Table, held: Ints) -> int:
    """Holdout rows that are equal to a training row."""
    units = repeated_rows(table).units
    if units is None or not held.size:
        return 0
    train = np.setdiff1d(np.arange(len(table)), held)
    return int(np.isin(units[held], units[train]).sum())
