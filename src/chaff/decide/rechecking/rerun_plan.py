"""The whole plan of a selection on new rows: which columns come, go and move."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from chaff.decide.plan import Plan
from chaff.decide.rechecking.result import RerunPlan
from chaff.decide.selection import Selection
from chaff.errors import ChaffError, UsageError
from chaff.table.table import Table
from chaff.work import Work


def run_anew(selection: Selection, plan: Plan, table: Table, work: Work) -> RerunPlan | None:
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
