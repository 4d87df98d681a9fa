"""Walking the stages of a plan on a table: no holdout, no file. What runs, what runs anew in a fold, and what one call judges."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from chaff.decide.ledger import Ledger
from chaff.decide.plan import Plan, check_plan
from chaff.errors import DataError
from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import SetsFull, Spares, Stage, name_of
from chaff.results.findings import Findings
from chaff.results.pin import Pin
from chaff.results.trail import Trail
from chaff.results.verdict import Verdict, drop, keep
from chaff.table.table import Table


@dataclass(frozen=True)
class StageReport:
    """What one stage was offered and what it said."""

    stage: Stage
    offered: tuple[str, ...]
    verdicts: tuple[Verdict, ...]
    result: Findings | Trail = field(repr=False)

    @property
    def kept(self) -> tuple[str, ...]:
        return tuple(v.feature for v in self.verdicts if v.stays)

    @property
    def set_aside(self) -> tuple[Verdict, ...]:
        return tuple(v for v in self.verdicts if v.verdict == "drop")

    @property
    def to_look_at(self) -> tuple[Verdict, ...]:
        return tuple(v for v in self.verdicts if v.verdict == "look")


AfterStage = Callable[[StageReport, Ledger], None]


@dataclass(frozen=True)
class Walked:
    """What the stages of a plan made of a table."""

    reports: tuple[StageReport, ...]
    ledger: Ledger = field(repr=False)
    full: tuple[str, ...]
    """The features that the kept set is held against: what stood after the last stage that sets it, pins included."""
    kept: tuple[str, ...]
    setting: Setting = field(repr=False)
    """With what every stage has found."""


def walk_stages(plan: Plan, train: Table, setting: Setting, after_stage: AfterStage | None = None) -> Walked:
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
        report = judge_stage(stage, train.with_features(offered), setting)
        offered, ledger = report.kept, ledger.and_then(report.verdicts)
        reports.append(report)
        setting = _after(setting, report)
        if isinstance(stage, SetsFull) and stage.sets_full():
            full = report.kept
        if after_stage is not None:
            after_stage(report, ledger)
        if not offered:
            raise DataError(
                f"stage '{name_of(stage)}' left no feature: every one of {len(report.offered)} was set aside. Loosen it: {stage.loosen}"
            )
    return Walked(tuple(reports), ledger, full, offered, setting)


def not_dropped(table: Table, pins: Mapping[str, Pin]) -> Table:
    """The table without the features that are pinned out: no stage ever sees them."""
    return table.with_features([f for f in table.features if f not in pins or pins[f].verdict == "keep"])


def _after(setting: Setting, report: StageReport) -> Setting:
    """The setting with what a stage has found, and what it spares."""
    stage, result = report.stage, report.result
    spared = {**setting.spared, **stage.spares(result)} if isinstance(stage, Spares) else setting.spared
    return replace(setting, earlier={**setting.earlier, stage.use: result}, spared=spared)


def judge_stage(stage: Stage, table: Table, setting: Setting) -> StageReport:
    """One stage on one table, with the pins of the setting put above what it says."""
    result = stage.judge(table, setting)
    verdicts = judge_pins(stage.verdicts(result, setting), setting.pins)
    return StageReport(stage, table.features, verdicts, result)


def judge_pins(verdicts: Iterable[Verdict], pins: Mapping[str, Pin], known: Sequence[str] = ()) -> tuple[Verdict, ...]:
    """Verdicts with the pins put above them, and one for every feature of `known` that is pinned out and has none."""
    said = tuple(_pinned(v, pins) for v in verdicts)
    silent = set(known) - {v.feature for v in said}
    gone = [p for f, p in pins.items() if p.verdict == "drop" and f in silent]
    return (*said, *(drop(p.feature, "pin", "", "", f"pinned: {p.because}") for p in gone))


def _pinned(verdict: Verdict, pins: Mapping[str, Pin]) -> Verdict:
    pin = pins.get(verdict.feature)
    if pin is None or (verdict.stays and verdict.verdict == "keep" and pin.verdict == "keep"):
        return verdict
    if pin.verdict == "drop":
        return drop(verdict.feature, "pin", verdict.figure, verdict.limit, f"pinned: {pin.because}")
    reason = f"pinned: {pin.because}" + (f" (the {verdict.by} said {verdict.verdict}: {verdict.reason})" if verdict.reason else "")
    return replace(keep(verdict.feature, verdict.by, verdict.figure, verdict.limit, reason), by="pin")
