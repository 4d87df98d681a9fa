"""One stage on one table, as the user calls it: pins above it, its verdicts beside what it measured."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from chaff.choices import wrong_fields
from chaff.decide.pins import checked_pins
from chaff.decide.stage_report import judge_pins, judge_stage, not_dropped
from chaff.errors import ArgumentError, UsageError
from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import ChecksTable, NeverDrops, Stage
from chaff.results.findings import DecoyRate, Findings, best_decoy
from chaff.results.trail import Trail
from chaff.results.verdict import Pin, Verdict
from chaff.table.table import Table
from chaff.work import Watch, Work, Workers

MEASURED = "measured"  # the word in place of a verdict where nothing was decided
VERDICT = ("verdict", "stays", "figure", "limit", "reason", "by")


@dataclasses.dataclass(frozen=True)
class StageResult:
    """What a stage found and said, the pinned-out features among it."""

    result: Findings | Trail
    verdicts: tuple[Verdict, ...]
    setting: Setting
    table: Table
    """What the stage was offered."""
    decided: bool = True
    """Whether it had anything to decide: without a cut some stages only measure."""


def judge(
    stage: Stage,
    table: Table,
    *,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    folds: int = 0,
    seed: int = 0,
    workers: Workers = None,
    watch: Watch | None = None,
) -> StageResult:
    """A stage on some features of a table; `folds` 0 for a stage that scores nothing over folds."""
    table, pinned = named_features(table, pins, features)
    if not getattr(stage, "without_target", False):
        table.check_target()
    if isinstance(stage, ChecksTable):
        stage.check_table(table)
    work = Work(seed, workers, watch)
    offered = not_dropped(table, pinned)
    folds = folds if table.has_target else 0
    setting = Setting.of(offered, folds, work=work, pins=pinned) if folds else Setting.unfolded(offered, work, pins=pinned)
    report = judge_stage(stage, offered, setting)
    return StageResult(
        report.result,
        judge_pins(report.verdicts, pinned, table.features),
        setting,
        offered,
        not (isinstance(stage, NeverDrops) and stage.never_drops()),
    )


def named_features(table: Table, pins: Iterable[Pin], features: Sequence[str] | None) -> tuple[Table, dict[str, Pin]]:
    """(the table with the features that were named and those that are pinned in, pinned-out ones still among them; the pins)."""
    pinned = checked_pins(list(pins), table)
    if features is not None:
        table = table.with_features(tuple(dict.fromkeys([*features, *(f for f, p in pinned.items() if p.verdict == "keep")])))
    return table, pinned


def on_offer(table: Table, pins: Iterable[Pin], features: Sequence[str] | None) -> tuple[Table, dict[str, Pin], frozenset[str]]:
    """(the table with what is on offer, the pins, what is pinned in).

    Raises
    ------
    UsageError
        When nothing is.
    """
    table, pinned = named_features(table, pins, features)
    offered = not_dropped(table, pinned)
    if not offered.features:
        raise UsageError("there is no candidate feature: nothing to search or to compare")
    return offered, pinned, frozenset(f for f in offered.features if f in pinned)


def with_verdicts(result: Findings, verdicts: Sequence[Verdict]) -> Findings:
    """Findings with the verdict columns, a row for every feature that has a verdict."""
    given = {v.feature: v for v in verdicts}
    frame = result.frame.reindex([*result.frame.index, *(f for f in given if f not in result.frame.index)])
    frame.index.name = result.frame.index.name
    subset = [given.get(str(f)) for f in frame.index]
    for name in VERDICT:
        frame[name] = [getattr(v, name) if v is not None else "" for v in subset]
    frame["stays"] = frame["stays"].astype(bool)
    return replace(result, frame=frame)


def findings_of(judged: StageResult) -> Findings:
    """The findings of a stage that measures, with its verdicts."""
    if not isinstance(judged.result, Findings):
        raise UsageError("this stage returns a Trail; findings are not available")
    result = with_verdicts(judged.result, judged.verdicts)
    if not judged.decided:
        own = (result.frame["verdict"] == "keep") & (result.frame["by"] != "pin")
        result = replace(result, frame=result.frame.assign(verdict=result.frame["verdict"].mask(own, MEASURED)))
    return with_decoys_noted(result, judged.table.decoys)


def with_decoys_noted(result: Findings, planted: Sequence[str]) -> Findings:
    """Findings that say what became of the decoys: how many were kept, or where the best of them stands when nothing was dropped."""
    if not planted:
        return result
    judged = result.frame["stays"].astype(bool) if "stays" in result.frame else result.frame.index.notna()
    rate = DecoyRate.of([f for f in planted if f in result.frame.index], {str(f) for f in result.frame.index[judged]})
    cut = not judged.all()
    words = str(rate) if cut else best_decoy([str(f) for f in result.ranked().index], set(planted))
    settings = {**result.settings, "planted": list(rate.planted)} | ({"decoys": rate.as_plain()} if cut else {})
    return replace(result, notes=(*result.notes, words), settings=settings)


def measured_by(judged: StageResult) -> Findings:
    """What a stage measured, where no verdict was asked for."""
    return with_decoys_noted(judged.result, judged.table.decoys) if isinstance(judged.result, Findings) else findings_of(judged)


def check_settings(cls: type, settings: Mapping[str, Any]) -> None:
    """Raises `ArgumentError` for unknown and ill-typed settings of a stage, all at once."""
    wrong = wrong_fields(cls, settings)
    if wrong:
        raise ArgumentError(f"{cls.__name__}: " + "; ".join(wrong))
