"""Run: a plan on a table, from the holdout that is set aside first to the selection that stands at the end."""

from __future__ import annotations

import base64
import hashlib
import zlib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from chaff.arrays import Ints
from chaff.decide.closing import Closing, Column, close
from chaff.decide.ledger import Ledger
from chaff.decide.pins import checked_pins
from chaff.decide.plan import Plan, built_in_plan
from chaff.decide.selection import (
    CarriedPart,
    DataPart,
    DerivedPart,
    DroppedPart,
    HoldoutPart,
    KeptPart,
    LookPart,
    ReadingPart,
    Selection,
    TargetPart,
    made_with,
)
from chaff.errors import DataError, UsageError
from chaff.evaluate.setting import Pin, Setting, Stage
from chaff.folds import make_folds, split_holdout
from chaff.methods.search.stage import named_model
from chaff.metrics import find_metric
from chaff.results.findings import Findings
from chaff.results.trail import Trail
from chaff.results.verdict import Verdict, drop, keep
from chaff.table.table import Table
from chaff.work import Watch, Work


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


@dataclass(frozen=True)
class Run:
    """A plan that has been run: every stage's report, the closing table, the ledger and the selection."""

    table: Table = field(repr=False)
    """All rows, holdout included."""
    train: Table = field(repr=False)
    stages: tuple[StageReport, ...] = field(repr=False)
    closing: Closing
    ledger: Ledger = field(repr=False)
    selection: Selection
    holdout: Ints = field(repr=False)
    """Holdout rows, as positions in `table`."""

    @property
    def features(self) -> tuple[str, ...]:
        """The kept features."""
        return self.closing.kept

    def result(self, stage: str) -> Findings | Trail:
        """What a stage measured, by its name."""
        for report in self.stages:
            if report.stage.use == stage:
                return report.result
        raise UsageError(f"the run has no stage '{stage}'; it has {', '.join(r.stage.use for r in self.stages)}")

    def __str__(self) -> str:
        from chaff.decide.telling import closing_rows, closing_warnings

        rows = closing_rows(self.closing)
        widths = [max(len(r[c]) for r in rows) for c in range(len(rows[0]))]
        lines = ["  ".join(cell.ljust(w) if c == 0 else cell.rjust(w) for c, (cell, w) in enumerate(zip(r, widths))) for r in rows]
        return "\n".join([str(self.selection), *(line.rstrip() for line in lines), *closing_warnings(self.closing)])


def select(
    table: Table,
    plan: Plan | None = None,
    *,
    holdout: float | None = None,
    pins: Iterable[Pin] = (),
    seed: int = 0,
    workers: int | None = None,
    watch: Watch | None = None,
    after_stage: Callable[[StageReport, Ledger], None] | None = None,
) -> Run:
    """Run a plan on a table and decide which features stay.

    Parameters
    ----------
    table : Table
        From `chaff.open_table` or `chaff.open_arrays`.
    plan : Plan, optional
        From `chaff.read_plan`; `chaff.built_in_plan()` when left out.
    holdout : float, optional
        Share of the rows set aside before anything is looked at (0: none); the plan's, 0.2 by default. The latest rows when
        the table has an order, whole groups when it has groups. Rows that came with ``open_table(…, holdout=…)`` are the
        holdout instead.
    pins : iterable of Pin
        From `chaff.pin_keep` and `chaff.pin_drop`; they beat every stage.
    seed : int
        Fixes every random draw.
    workers : int, optional
        Threads; results do not depend on it.
    watch : callable, optional
        ``watch(stage, message)`` while it runs.
    after_stage : callable, optional
        ``after_stage(report, ledger so far)`` when a stage is done.

    Returns
    -------
    Run

    Raises
    ------
    DataError
        For example when a stage leaves no feature: it says which, and what would loosen it.

    Examples
    --------
    >>> import chaff
    >>> run = chaff.select(chaff.demo.table(rows=300), plan=chaff.Plan((chaff.Screen(), chaff.Search())))
    >>> "crumb_score" in run.features
    False
    """
    plan = plan or built_in_plan()
    if plan.score.metric is not None:
        find_metric(plan.score.metric, table.target.task, len(table.target.classes))
    work = Work(seed, workers, watch)
    rows, held, how = _set_aside(table, plan.score.holdout if holdout is None else holdout, work)
    train = table.take(rows)
    pinned = checked_pins([*plan.pins, *pins], table)
    setting = Setting(make_folds(train, plan.score.folds, plan.score.repeats, work), metric=plan.score.metric, pins=pinned, work=work)
    offered = [f for f in train.features if f not in pinned or pinned[f].verdict == "keep"]
    out = [p for p in pinned.values() if p.verdict == "drop"]
    ledger = Ledger(meanings=table.meanings).and_then(drop(p.feature, "pin", "", "", p.because) for p in out)
    reports: list[StageReport] = []
    full = tuple(offered)
    for stage in plan.stages:
        work.tell(stage.use, "started")
        report = judge_stage(stage, train.with_features(offered), setting)
        offered = list(report.kept)
        ledger = ledger.and_then(report.verdicts)
        reports.append(report)
        setting = replace(setting, earlier={**setting.earlier, stage.use: report.result})
        if stage.use == "screen":
            full = report.kept
        if after_stage is not None:
            after_stage(report, ledger)
        if not offered:
            raise DataError(
                f"stage '{stage.use}' left no feature: every one of {len(report.offered)} was set aside. Loosen it: {stage.loosen}"
            )
    work.tell("closing", "started")
    models = [named_model(m) for m in dict.fromkeys(("ridge", plan.score.model))]
    closing = close(table, train, held, rows, full, offered, setting, models)
    ledger = replace(ledger, holdout_reads=1 if held.size else 0)
    selection = _selection(table, train, plan, pinned, reports, closing, ledger, held, how, seed)
    return Run(table, train, tuple(reports), closing, ledger, selection, held)


def _set_aside(table: Table, share: float, work: Work) -> tuple[Ints, Ints, str]:
    """(training rows, holdout rows, how) as positions in the table's view."""
    given = (table.source.arrow.schema.metadata or {}).get(b"holdout_rows")
    if given is not None:
        late = table.rows >= table.source.rows - int(given)
        return np.flatnonzero(~late), np.flatnonzero(late), "separate rows"
    if share == 0:
        return np.arange(len(table)), np.empty(0, np.int64), "none"
    rows, held = split_holdout(table, share, work)
    how = "latest rows" if table.order is not None else "whole groups" if table.groups is not None else "at random"
    return rows, held, how


def judge_stage(stage: Stage, table: Table, setting: Setting) -> StageReport:
    """One stage on one table, with the pins of the setting put above what it says."""
    result = stage.judge(table, setting, setting.work)
    verdicts = tuple(_pinned(v, setting.pins) for v in stage.verdicts(result, setting))
    return StageReport(stage, table.features, verdicts, result)


def _pinned(verdict: Verdict, pins: Mapping[str, Pin]) -> Verdict:
    pin = pins.get(verdict.feature)
    if pin is None or (verdict.stays and verdict.verdict == "keep" and pin.verdict == "keep"):
        return verdict
    if pin.verdict == "drop":
        return drop(verdict.feature, "pin", verdict.figure, verdict.limit, f"pinned: {pin.because}")
    reason = f"pinned: {pin.because}" + (f" (the {verdict.by} said {verdict.verdict}: {verdict.reason})" if verdict.reason else "")
    return replace(keep(verdict.feature, verdict.by, verdict.figure, verdict.limit, reason), by="pin")


def _selection(
    table: Table,
    train: Table,
    plan: Plan,
    pins: Mapping[str, Pin],
    reports: list[StageReport],
    closing: Closing,
    ledger: Ledger,
    held: Ints,
    how: str,
    seed: int,
) -> Selection:
    kept = set(closing.kept)
    dropped, look = [], []
    for f in table.features:
        v = ledger.last(f)
        assert v is not None
        said = {"name": f, "stage": v.by, "figure": v.figure, "limit": v.limit, "reason": v.reason}
        if v.verdict == "look":
            look.append(LookPart(**said, barred=v.barred))
        elif f not in kept:
            dropped.append(DroppedPart(**said))
    target, reading = table.target, table.source.reading
    told = replace(plan, pins=tuple(pins.values())).as_mapping() | {"table": _table_section(table)}
    return Selection(
        target=TargetPart(name=target.name, task=target.task, unit=target.unit, classes=list(target.classes), positive=target.positive),
        kept=[_kept_part(train, f, ledger) for f in closing.kept],
        dropped=dropped,
        look=look,
        derived=[DerivedPart(name=d.name, made=d.made, of=d.of, value=d.value) for d in table.source.derived if d.name in kept],
        carried=CarriedPart(ids=list(table.ids), groups=table.groups_name, order=table.order_name, weights=table.weights_name),
        reading=ReadingPart(
            missing=list(reading.missing),
            infinite=table.source.infinite,  # type: ignore[arg-type]
            delimiter=reading.delimiter,
            decimal=reading.decimal,
            encoding=reading.encoding,
        ),
        holdout=_holdout_part(table, held, how, ledger.holdout_reads),
        scores=_scores(closing),
        plan=told,
        seed=seed,
        data=DataPart(
            source=table.label,
            rows=len(table),
            columns=[n for n in table.source.arrow.column_names if n != target.name],
            fingerprint=fingerprint(table),
        ),
        made_with=made_with(),
    )


def _table_section(table: Table) -> dict[str, Any]:
    """How the table was opened, as it would stand in a plan."""
    said = {
        "target": table.target.name,
        "task": table.target.task,
        "positive": table.target.positive,
        "ids": list(table.ids),
        "ignore": list(table.ignored),
        "groups": table.groups_name,
        "order": table.order_name,
        "weights": table.weights_name,
        "kinds": dict(table.source.kinds),
        "together": {k: list(v) for k, v in table.source.together.items()},
        "costs": dict(table.costs),
        "missing_flags": [d.of for d in table.source.derived if d.made == "missing flag"],
        "fill": {d.of: d.value for d in table.source.derived if d.made == "fill"},
    }
    return {k: v for k, v in said.items() if v}


def _kept_part(train: Table, name: str, ledger: Ledger) -> KeptPart:
    column = train.column(name)
    present = column.values[~column.missing]
    number = column.kind == "number"
    about, v = train.meaning(name), ledger.last(name)
    used = [column.levels[k] for k in np.unique(present).astype(int)] if column.levels else None
    stored = name in train.source.arrow.column_names
    arrow_type = str(train.source.arrow.schema.field(name).type) if stored else ""
    return KeptPart(
        name=name,
        kind=column.kind,
        words=bool(column.levels) and "string" in arrow_type,
        range=[float(present.min()), float(present.max())] if number and present.size else None,
        levels=used,
        missing_share=round(float(column.missing.mean()), 6),
        unit=about.unit,
        meaning=about.text,
        members=list(train.source.together[name]) if name in train.source.together else None,
        verdict="look" if v is not None and v.verdict == "look" else "keep",
        figure=v.figure if v else "",
        reason=v.reason if v else "",
    )


def _holdout_part(table: Table, held: Ints, how: str, reads: int) -> HoldoutPart:
    if not held.size:
        return HoldoutPart()
    rows = table.rows[held]
    flags = np.zeros(table.source.rows, np.uint8)
    flags[rows] = 1
    return HoldoutPart(
        rows="sha256:" + hashlib.sha256(rows.astype("<i8").tobytes()).hexdigest(),
        bitmap=base64.b64encode(zlib.compress(np.packbits(flags).tobytes(), 9)).decode(),
        count=int(rows.size),
        share=round(rows.size / len(table), 6),
        how=how,
        reads=reads,
    )


def holdout_rows(part: HoldoutPart, source_rows: int) -> Ints:
    """Row numbers of the source that were set aside, from what a selection stores."""
    if not part.count:
        return np.empty(0, np.int64)
    packed = np.frombuffer(zlib.decompress(base64.b64decode(part.bitmap)), np.uint8)
    return np.flatnonzero(np.unpackbits(packed)[:source_rows]).astype(np.int64)


def fingerprint(table: Table) -> str:
    """SHA-256 over the names and values of the target and the features, missing cells included."""
    digest = hashlib.sha256()
    for name in (table.target.name, *table.features):
        column = table.whole_column(name)
        digest.update(name.encode() + b"\x00" + "\x1f".join(column.levels).encode() + b"\x00")
        digest.update(np.ascontiguousarray(column.values, "<f8").tobytes())
    return "sha256:" + digest.hexdigest()


def _scores(closing: Closing) -> dict[str, Any]:
    def one(column: Column, which: str) -> dict[str, Any]:
        score = getattr(column, which)
        out: dict[str, Any] = {"model": column.model, "metric": column.metric.name, "on": column.where, "mean": score.mean}
        if column.where == "folds":
            out |= {"se": score.se, "values": score.values.tolist(), "note": "used to choose"}
        return out

    def one_none(column: Column) -> dict[str, Any]:
        return {"model": "none", "metric": column.metric.name, "on": column.where, "mean": column.none}

    return {
        "full": {"features": list(closing.full), "scores": [one(c, "full") for c in closing.columns]},
        "kept": {"features": list(closing.kept), "scores": [one(c, "kept") for c in closing.columns]},
        "none": {"features": [], "scores": [one_none(c) for c in closing.columns]},
        "folds": closing.folds,
    }
