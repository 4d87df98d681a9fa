"""Walking the stages of a plan on a table: no holdout, no file, so that it can be rerun in any fold."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

from chaff.arrays import Ints
from chaff.decide.ledger import Ledger
from chaff.decide.plan import Plan, check_plan
from chaff.decide.stage_report import StageReport, confirmed, judge_stage, not_dropped
from chaff.errors import DataError
from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import NeverDrops, SetsFullSet, Stage, UsesTarget, name_of
from chaff.folds import make_folds
from chaff.methods.search.stage import SelectionSearch
from chaff.results.verdict import drop
from chaff.table.table import Table
from chaff.work import silent, task

NAMED = 4  # columns that a message names
INNER_FOLDS = 5  # of stages that rerun inside a fold
AfterStage = Callable[[StageReport, Ledger], None]


@dataclass(frozen=True)
class StagesRun:
    """What the stages of a plan made of a table."""

    reports: tuple[StageReport, ...]
    ledger: Ledger = field(repr=False)
    full: tuple[str, ...]
    """The features that the kept set is held against: what stood after the last stage that sets it, pins included."""
    kept: tuple[str, ...]
    setting: Setting = field(repr=False)
    """With what every stage has found."""


def run_stages(plan: Plan, train: Table, setting: Setting, after_stage: AfterStage | None = None) -> StagesRun:
    """Every stage in turn on what the one before let through; pins beat all of them.

    Raises
    ------
    PlanError
        When the plan does not fit the table, before anything has run.
    DataError
        When a stage leaves no feature: it says which, and what would loosen it.
    """
    check_plan(plan, train)
    dropped = [p for p in setting.pins.values() if p.verdict == "drop"]
    ledger = Ledger(meanings=train.meanings).and_then(drop(p.feature, "pin", "", "", p.because) for p in dropped)
    offered = not_dropped(train, setting.pins).features
    full, reports = offered, []
    for stage in plan.stages:
        setting.work.tell(name_of(stage))
        report = confirmed(judge_stage(stage, train.with_features(offered), setting), setting)
        offered, ledger = report.kept, ledger.and_then(report.verdicts)
        reports.append(report)
        setting = _after(setting, report, train, plan.stages[: len(reports)])
        if isinstance(stage, SetsFullSet) and stage.sets_full_set():
            full = report.kept
        if after_stage is not None:
            after_stage(report, ledger)
        if not offered and not isinstance(report.result, SelectionSearch):
            hint = f"Relax it: {stage.hint_if_empty}{_pins_that_help(report)}"
            raise DataError(f"stage '{name_of(stage)}' dropped all {len(report.offered)} features. {hint}")
    return StagesRun(tuple(reports), ledger, full, offered, setting)


def _after(setting: Setting, report: StageReport, train: Table, done: tuple[Stage, ...]) -> Setting:
    """The setting with what a stage has found, and how the stages so far rerun on some of the rows."""
    before = None
    if any(isinstance(stage, UsesTarget) and stage.uses_target() for stage in done):
        before = task(_left_by, _that_drop(done), train, replace(setting, earlier={}, before=None, scorers={}, whole=None))
    return replace(setting, earlier={**setting.earlier, report.stage.use: report.result}, before=before)


def _that_drop(stages: tuple[Stage, ...]) -> tuple[Stage, ...]:
    """The stages up to the last that may drop something: what measures behind it decides nothing."""
    last = max(k for k, s in enumerate(stages) if not (isinstance(s, NeverDrops) and s.never_drops()))
    return stages[: last + 1]


def _left_by(stages: tuple[Stage, ...], train: Table, setting: Setting, rows: Ints) -> tuple[str, ...]:
    """The features that some stages leave when they see these rows only."""
    subset = train.take(rows)
    work = replace(setting.work, watch=silent)
    inside = replace(setting, folds=make_folds(subset, INNER_FOLDS, 1, work), work=work, scorers={}, earlier={})
    offered = not_dropped(subset, setting.pins).features
    for stage in stages:
        report = judge_stage(stage, subset.with_features(offered), inside)
        offered = report.kept
        inside = replace(inside, earlier={**inside.earlier, stage.use: report.result})
    return offered


def _pins_that_help(report: StageReport) -> str:
    """The blocked columns, each of which a pin brings in."""
    blocked = [v.feature for v in report.to_review if v.blocked]
    if not blocked:
        return ""
    more = f" and {len(blocked) - NAMED} more" if len(blocked) > NAMED else ""
    return (
        f". Blocked: {', '.join(blocked[:NAMED])}{more}; a feature that is no leak and no id is used with "
        f"--pin-keep {blocked[0]} --because WHY"
    )
