"""Record: a run as a selection, the file that says which columns stay and why."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np

from chaff.choices import plan_value
from chaff.decide.distributions import shape_of
from chaff.decide.final_scores import FinalScores, Line
from chaff.decide.history import places_of, steps_of
from chaff.decide.ledger import Ledger
from chaff.decide.plan import Plan
from chaff.decide.relations import relations_of
from chaff.decide.run_stages import StagesRun
from chaff.decide.selection import Selection, made_with, read_selection
from chaff.decide.selection_parts import (
    AboutPart,
    DataPart,
    DerivedPart,
    DroppedPart,
    HoldoutPart,
    KeptPart,
    ProtectedPart,
    ReviewPart,
    TargetPart,
)
from chaff.decide.stage_report import StageReport
from chaff.methods.evaluation.protection import Protection
from chaff.methods.search.stage import SelectionSearch
from chaff.results.verdict import Pin
from chaff.table.kinds import Column, is_ordered
from chaff.table.source import Source
from chaff.table.table import Table
from chaff.work import Work, task

_fingerprints: WeakKeyDictionary[Source, dict[tuple[str, tuple[str, ...]], str]] = WeakKeyDictionary()


def selection_of(
    table: Table,
    stages_run: StagesRun,
    train: Table,
    plan: Plan,
    final_scores: FinalScores,
    ledger: Ledger,
    holdout: HoldoutPart,
    seed: int,
) -> Selection:
    """The selection that a run ends in; how the table was opened stands in its plan."""
    last = stages_run.reports[-1].result
    return record_of(
        table,
        train,
        final_scores.kept,
        ledger,
        plan,
        seed,
        stages_run.reports,
        model=plan_value(final_scores.deciding, "label"),
        selection_frequencies={f: round(float(v), 6) for f, v in ledger.selection_frequencies.items() if f not in table.decoys and v == v},
        interchangeable=[list(pair) for pair in last.interchangeable()] if isinstance(last, SelectionSearch) else [],
        holdout=holdout,
        scores=_scores(final_scores, table.decoys),
    )


def record_of(
    table: Table, train: Table, names: Sequence[str], ledger: Ledger, plan: Plan, seed: int, reports: Sequence[StageReport], **further: Any
) -> Selection:
    """A selection of these columns of a table; `train` has the rows that they were chosen on, `further` are keys of its own."""
    kept, target = set(names), table.target
    dropped, review = _gone(table, kept, ledger)
    return Selection(
        target=_target_part(train),
        kept=_kept_parts(train, [f for f in names if f not in table.decoys], ledger),
        dropped=dropped,
        review=review,
        derived=[DerivedPart(name=d.name, made=d.made, of=d.of, value=d.value) for d in table.source.derived if d.name in kept],
        history=[s for s in steps_of(reports, ledger) if s.feature not in table.decoys],
        ranks=places_of(reports),
        descriptions={f: _about_part(table, f) for f in table.features if f not in kept and f not in table.decoys},
        plan=plan.as_mapping(),
        seed=seed,
        **further,
        data=DataPart(
            source=table.label,
            rows=len(table),
            columns=[n for n in table.source.arrow.column_names if n != target.name and not _beside(n)],
            fingerprint=fingerprint(table),
        ),
        made_with=made_with(),
    )


def same_run(path: Path, table: Table, plan: Plan, pins: Sequence[Pin], seed: int) -> bool:
    """Whether the selection in that file came from these very rows, plan, pins and seed: then making it again changes nothing."""
    from chaff.errors import ChaffError

    try:
        there = read_selection(path)
    except ChaffError:
        return False
    text = json.loads(json.dumps(replace(plan, table=table.terms, pins=tuple(pins)).as_mapping()))
    return there.seed == seed and there.plan == text and _is_of(there.data.fingerprint, table)


def _beside(name: str) -> bool:
    """Whether a column came as an array of its own beside X: the groups, the order or the weights."""
    return name in ("(groups)", "(order)", "(weights)")


def _gone(table: Table, kept: set[str], ledger: Ledger) -> tuple[list[DroppedPart], list[ReviewPart]]:
    """What went, and what the user should look at, with the word that decided."""
    dropped, review = [], []
    for f in table.features:
        if f in table.decoys:
            continue
        v = ledger.last(f)
        if v is None:
            continue
        given = {"name": f, "stage": v.by, "figure": v.figure, "limit": v.limit, "reason": v.reason}
        if v.verdict == "review":
            review.append(ReviewPart(**given, blocked=v.blocked))
        elif f not in kept:
            dropped.append(DroppedPart(**given))
    return dropped, review


def _target_part(train: Table) -> TargetPart:
    t = train.target
    assert t.task != "none"
    shape = shape_of(Column(t.name, "category" if t.classes else "number", train.y, t.classes))
    return TargetPart(name=t.name, task=t.task, unit=t.unit, classes=list(t.classes), positive=t.positive, distribution=shape)


def _about_part(table: Table, name: str) -> AboutPart:
    about = table.meaning(name)
    return AboutPart(kind=table.kind(name), unit=about.unit, meaning=about.text)


def _kept_parts(train: Table, names: Sequence[str], ledger: Ledger) -> list[KeptPart]:
    relations = relations_of(train, names)
    return [_kept_part(train, f, ledger).model_copy(update={"relation": relations.get(f)}) for f in names]


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
        words="string" in arrow_type and (bool(column.levels) or is_ordered(train.source.kinds.get(name, ""))),
        range=[float(present.min()), float(present.max())] if number and present.size else None,
        levels=used,
        missing_share=round(float(column.missing.mean()), 6),
        unit=about.unit,
        meaning=about.text,
        members=list(train.source.together[name]) if name in train.source.together else None,
        verdict="review" if v is not None and v.verdict == "review" else "keep",
        figure=v.figure if v else "",
        reason=v.reason if v else "",
        distribution=shape_of(column),
    )


def fingerprint(table: Table, work: Work | None = None) -> str:
    """SHA-256 over those of the columns, target first: their names and values, missing cells included. Whoever works shares the columns."""
    known, key = _fingerprints.setdefault(table.source, {}), (table.target.name, table.features)
    if key not in known:
        names = (table.target.name, *table.features)
        if work is None or (work.executor is not None and table.source.spill is None):
            work = Work()  # the cells of a frame do not travel for that
        of_columns = work.each(task(_of_column, table), names)
        known[key] = "sha256:" + hashlib.sha256(b"".join(of_columns)).hexdigest()
    return known[key]


def _of_column(table: Table, name: str) -> bytes:
    digest = hashlib.sha256()
    for part in _bytes_of(table, name):
        digest.update(part)
    return digest.digest()


def _bytes_of(table: Table, name: str) -> tuple[Any, ...]:
    column = table.whole_column(name)
    given = name.encode() + b"\x00" + "\x1f".join(column.levels).encode() + b"\x00"
    return given, np.ascontiguousarray(column.values, "<f8").data


def _is_of(given: str, table: Table) -> bool:
    """Whether a fingerprint is that of these cells; also one that was made column after column in one go."""
    if given == fingerprint(table):
        return True
    digest = hashlib.sha256()
    for name in (table.target.name, *table.features):
        for part in _bytes_of(table, name):
            digest.update(part)
    return given == "sha256:" + digest.hexdigest()


def protected_parts(found: Protection) -> dict[str, ProtectedPart]:
    """What protection found, as a selection keeps it."""
    out = {}
    for name, row in found.frame.iterrows():
        lost = found.carriers.loc[[name]].set_index("feature")["lost"] if name in found.carriers.index else {}
        out[str(name)] = ProtectedPart(
            explained=float(row["explained"]),
            explained_se=float(row["explained_se"]) if row["explained_se"] == row["explained_se"] else None,
            significant=bool(row["significant"]),
            carriers={str(f): round(float(lost[f]), 6) for f in row["carriers"]},
        )
    return out


NESTED = ("full", "kept", "nothing")  # lines whose first score is the honest one


def _scores(final_scores: FinalScores, decoys: tuple[str, ...] = ()) -> dict[str, Any]:
    def one(line: Line) -> dict[str, Any]:
        folds = "honest folds" if final_scores.honest is not None and line.name in NESTED else "folds"
        given = [
            (folds, final_scores.model, final_scores.metric, line.honest),
            ("holdout", final_scores.model, final_scores.metric, line.holdout),
        ]
        if final_scores.beside is not None:
            given.append(("folds", final_scores.model, final_scores.beside, line.beside))
        if final_scores.other:
            given.append(("folds", final_scores.other, final_scores.metric, line.other))
        scores = [
            {"model": model, "metric": metric.name, "on": on, "mean": s.mean} | ({"se": s.se} if s.se == s.se else {})
            for on, model, metric, s in given
            if s.mean == s.mean
        ]
        return {"features": [f for f in line.features if f not in decoys], "scores": scores}

    out = {"full": one(final_scores.line("full")), "kept": one(final_scores.line("kept")), "none": one(final_scores.line("nothing"))}
    out["folds"] = final_scores.folds  # type: ignore[assignment]
    if final_scores.honest is not None:
        out["honest"] = final_scores.honest.as_plain()
    return out
