"""Recheck as a single call."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Literal

import numpy as np

from chaff.decide.plan import Plan, plan_from
from chaff.decide.rechecking.kept_versus_all import metric_then, other_relations, reasons_of, score_then, standing_of
from chaff.decide.rechecking.new_rows import drift_of_table, gone_columns, open_source, opened_new
from chaff.decide.rechecking.old_rows import with_old
from chaff.decide.rechecking.result import Recheck, RerunPlan, Verdict
from chaff.decide.row_sample import sample_of
from chaff.decide.selection import Selection
from chaff.errors import ChaffError, UsageError
from chaff.models.named import MODELS, as_model, own_models
from chaff.models.protocols import Model
from chaff.table.large_tables import Limit
from chaff.table.table import Table
from chaff.work import Watch, Work, Workers


def rerun_plan(selection: Selection, plan: Plan, table: Table, work: Work) -> RerunPlan | None:
    """The plan of the selection on the new rows."""
    import pandas as pd

    from chaff.decide.history import places_of
    from chaff.decide.run import select

    known = set(table.features)
    pins = [p for p in plan.pins if p.feature in known]
    try:
        run = select(
            table,
            replace(plan, pins=()),
            pins=pins,
            seed=selection.seed,
            workers=work.executor or work.workers,
            watch=work.watch,
            holdout=0,
            state=False,
        )
    except UsageError:
        raise
    except ChaffError as error:
        return RerunPlan((), (), selection.features, f"the plan ends on the new rows: {error}", pd.DataFrame())
    places = places_of(run.stages)
    rows = [
        {"column": f, "stage": stage, "then": then, "now": places[stage][f]}
        for stage, old in selection.ranks.items() if stage in places
        for f, then in old.items() if f in places[stage]
    ]  # fmt: skip
    moved = pd.DataFrame(rows, columns=["column", "stage", "then", "now"])
    moved = moved.loc[np.log(moved["then"] / moved["now"]).abs().sort_values(ascending=False, kind="stable").index].set_index("column")
    then, now = set(selection.features), set(run.features)
    comes, goes = tuple(f for f in run.features if f not in then), tuple(f for f in selection.features if f not in now)
    return RerunPlan(run.features, comes, goes, str(run.honest), moved)


def recheck(
    selection: Selection, new: Any, *, old: Any = None, model: Any = None, models: Mapping[str, Any] | None = None, rerun: bool = False,
    rows: int | float | Literal["auto", "all"] = "auto", memory: str | float | None = None, scratch: str | Path | None = None,
    seed: int = 0, workers: Workers = None, watch: Watch | None = None,
) -> Recheck:  # fmt: skip
    """Check on new rows whether a selection is still valid: stay, refit or reselect.

    Parameters
    ----------
    selection : Selection
    new : path, pandas frame, Arrow table or Table
        New rows with their target.
    old : as `new`, optional
        The rows of the selection: the old coefficients are then scored on the new rows, and a model tries to separate old rows from new.
    model : model, str or dict, optional
        The deciding model of the selection when left out. A selection stores only the name of a model of your own: pass the model
        here or in `models`.
    models : dict, optional
        Models of your own by their names in the plan of the selection, as in `chaff.select`: ``models={"mine": mine}``.
    rerun : bool
        Also run the whole plan on the new rows and list the columns that enter and leave. It does not change the verdict.
    rows : "auto", "all", int or float below 1
        Rows that models are fitted on, as in `chaff.select`: of more than 50,000 a sample of 40,000, which the output reports. Drift is
        measured on every row.
    memory, scratch : as in `chaff.open_table`
        For new and old rows that are larger than memory.
    seed, workers, watch : as in `chaff.select`

    Returns
    -------
    Recheck
        ``verdict``, ``reasons``, ``keep_up``, ``drift``; ``exit_code`` 0, 10 or 20.

    Raises
    ------
    UsageError
        When the selection was made with a model of your own that is not passed.
    DataError
        When the target is missing, or there are too few rows.

    Notes
    -----
    reselect: a kept column is missing or has another kind, or the kept set loses significantly more than the allowance against all
    candidates of the selection (one-sided, 1 %; the paired test of `chaff.keep_up`). refit: a kept column or the target has drifted, the
    relation of a kept column to the target has changed (bins and slopes that the selection stores), the score is significantly lower
    than at selection, or (with the old rows) the old coefficients lose significantly more than the allowance. stay: none of these.
    """
    work = Work(seed, workers, watch)
    work.tell("open")
    with own_models(_own_models(selection, model, models)):
        plan = plan_from(selection.plan)
        used = _model_of(selection, plan, model)
    limit = Limit.of(memory, scratch)
    table = opened_new(selection, new, limit)
    gone = gone_columns(selection, table)
    offered = [f for f in selection.scores.get("full", {}).get("features", selection.features) if f in table.features]
    kept = tuple(f for f in selection.features if f not in gone)
    drift = drift_of_table(selection, table, kept)
    reasons: list[tuple[Verdict, str]] = [("reselect", words) for words in gone.values()]
    reasons += [("refit", f"{name}: {why}") for name, why in drift.frame["why"].items() if why]
    subset, words = sample_of(table, rows, True, work) if not gone else (table, "")
    result = standing_of(subset, kept, offered, used, plan, work) if not gone else None
    if result is not None:
        reasons += reasons_of(result, selection)
        reasons += other_relations(selection, subset, kept)
    old_rows = None
    if old is not None and result is not None and kept:  # without a column there are no coefficients, and nothing to tell rows apart by
        work.tell("old rows")
        then_rows, _ = sample_of(old if isinstance(old, Table) else open_source(selection, old, limit), rows, True, work)
        old_rows, more = with_old(selection, then_rows, subset, kept, used, result, work)
        reasons += more
    fresh = rerun_plan(selection, plan, table, work) if rerun else None
    verdict, text = _verdict_of(reasons)
    notes = (
        *table.notes,
        f"for the scores {words}" if words else "",
        "" if old is not None else "without the old rows (old=…, --old) coefficients from then are not tried",
    )
    then = score_then(selection)
    metric = result.metric if result is not None else metric_then(selection)
    return Recheck(
        verdict, text, len(table), used.label, metric, then, result.now if result else None, result.full if result else None,
        result.keep_up if result else None, drift, old_rows, fresh, tuple(filter(None, notes)),
    )  # fmt: skip


def _verdict_of(reasons: Sequence[tuple[Verdict, str]]) -> tuple[Verdict, tuple[str, ...]]:
    """(the weightiest verdict, the reasons with those for it first)"""
    order: dict[Verdict, int] = {"reselect": 0, "refit": 1, "stay": 2}
    text = sorted(reasons, key=lambda r: order[r[0]])
    return text[0][0] if text else "stay", tuple(words for _, words in text)


def _own_models(selection: Selection, value: Any, models: Mapping[str, Any] | None) -> Mapping[str, Any]:
    """The person's own models by every name that the selection has for them; `said` stands for one that goes by no other."""
    plan = selection.plan
    named = [selection.model, plan.get("score", {}).get("model"), *(stage.get("model") for stage in plan.get("stage", ()))]
    given = dict(models or {})
    for name in dict.fromkeys(n for n in named if isinstance(n, str)):
        if name in MODELS.choices or name in given:
            continue
        if value is None:
            raise UsageError(
                f"the selection was made with your own model '{name}', of which it holds the name alone: "
                f"hand it over in Python, chaff.recheck(…, models={{'{name}': …}})"
            )
        given[name] = value
    return given


def _model_of(selection: Selection, plan: Plan, given: Any) -> Model:
    for choice in (given, selection.model, plan.score.model):
        if choice is not None:
            return as_model(choice)
    return as_model("logistic" if selection.target.classes else "ridge")
