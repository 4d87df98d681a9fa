"""One stage on one table, with the user's pins put above what it says."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import ConfirmsOnAllRows, Stage, name_of
from chaff.results.findings import Findings
from chaff.results.trail import Trail
from chaff.results.verdict import Pin, Verdict, drop, keep
from chaff.table.table import Table
from chaff.visible import Shown
from chaff.work import blas_for


@dataclass(frozen=True, repr=False)
class StageReport(Shown):
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
    def to_review(self) -> tuple[Verdict, ...]:
        return tuple(v for v in self.verdicts if v.verdict == "review")

    def __str__(self) -> str:
        return f"{name_of(self.stage)}: {len(self.offered)} features offered, {len(self.kept)} kept"


def judge_stage(stage: Stage, table: Table, setting: Setting) -> StageReport:
    """One stage on one table, with the pins of the setting put above what it says."""
    with blas_for(len(table), len(table.features)):
        result = stage.judge(table, setting)
    given = stage.verdicts(result, setting)
    if stage.name:  # a stage that has a name of its own signs with it
        given = tuple(replace(v, by=stage.name) if v.by == stage.use else v for v in given)
    return StageReport(stage, table.features, judge_pins(given, setting.pins), result)


def confirmed(report: StageReport, setting: Setting) -> StageReport:
    """What a stage says of a sample, with its drops looked at again on every row where it can do so."""
    if setting.whole is None or not isinstance(report.stage, ConfirmsOnAllRows):
        return report
    given = report.stage.on_all_rows(report.verdicts, report.result, setting)
    return replace(report, verdicts=judge_pins(given, setting.pins))


def judge_pins(verdicts: Iterable[Verdict], pins: Mapping[str, Pin], known: Sequence[str] = ()) -> tuple[Verdict, ...]:
    """Verdicts with the pins put above them, and one for every feature of `known` that is pinned out and has none."""
    given = tuple(_pinned(v, pins) for v in verdicts)
    silent = set(known) - {v.feature for v in given}
    gone = [p for f, p in pins.items() if p.verdict == "drop" and f in silent]
    return (*given, *(drop(p.feature, "pin", "", "", f"pinned: {p.because}") for p in gone))


def _pinned(verdict: Verdict, pins: Mapping[str, Pin]) -> Verdict:
    pin = pins.get(verdict.feature)
    if pin is None or (verdict.stays and verdict.verdict == "keep" and pin.verdict == "keep"):
        return verdict
    if pin.verdict == "drop":
        return drop(verdict.feature, "pin", verdict.figure, verdict.limit, f"pinned: {pin.because}")
    reason = f"pinned: {pin.because}" + (f" ({verdict.by}: {verdict.verdict}, {verdict.reason})" if verdict.reason else "")
    return replace(keep(verdict.feature, verdict.by, verdict.figure, verdict.limit, reason), by="pin")


def not_dropped(table: Table, pins: Mapping[str, Pin]) -> Table:
    """The table without the features that are pinned out: no stage ever sees them."""
    return table.with_features([f for f in table.features if f not in pins or pins[f].verdict == "keep"])
