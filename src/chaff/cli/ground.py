"""The ground a looking command stands on: the table as the plan and the options open it, without the rows that `chaff select`
will hold out, without what the stages before leave out."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.console import QUIET, Show
from chaff.cli.options import holdout_said, pins_said, terms_said

if TYPE_CHECKING:
    from chaff.decide.plan import Plan
    from chaff.evaluate.setting import Setting
    from chaff.results.pin import Pin
    from chaff.table.table import Table
    from chaff.table.terms import Terms


HOLDOUT = 0.2  # as a plan has it where nothing is said


@dataclass(frozen=True)
class Ground:
    """What a command looks at, and what it says of that."""

    table: Table
    """Rows and columns in view."""
    whole: Table
    pins: tuple[Pin, ...]
    plan: Plan | None
    left_out: tuple[str, ...]
    """Columns that the stages before drop or bar."""
    held: int
    """Rows that are set aside and not looked at."""
    notes: tuple[str, ...]

    def stage(self, cls: type, **said: Any) -> Any:
        """The plan's first stage of this kind, or a plain one, with what the options said on top."""
        from chaff.decide.stages import make_stage, tell_stage
        from chaff.errors import UsageError

        given = [s for s in (self.plan.stages if self.plan else ()) if isinstance(s, cls)]
        base = {k: v for k, v in tell_stage(given[0], off=False).items() if k != "use"} if given else {}
        problems: list[str] = []
        made = make_stage(cls, {**base, **{k: v for k, v in said.items() if v is not None}}, cls.__name__.lower(), problems)
        if made is None:
            raise UsageError("; ".join(problems))
        return made

    def tell(self, show: Show) -> None:
        """The table and what is not looked at, in a few lines."""
        show.table(self.table)
        for note in self.notes:
            show.say(note, QUIET)

    @property
    def linear_model(self) -> str:
        """What is taken where no model is named."""
        return "logistic" if self.table.target.classes else "ridge"

    def as_plain(self) -> dict[str, Any]:
        t = self.table
        return {
            "source": t.label,
            "rows": len(t),
            "rows_held_out": self.held,
            "features": list(t.features),
            "left_out": list(self.left_out),
            "target": {"name": t.target.name, "task": t.target.task, "classes": list(t.target.classes), "unit": t.target.unit},
            "notes": [*t.notes, *self.notes],
        }


def read_said_plan(said: dict[str, Any]) -> Plan | None:
    from pathlib import Path

    from chaff.decide.named_plans import NAMED, named_plan
    from chaff.decide.plan import read_plan

    asked = said.get("plan_file")
    if asked in NAMED and not Path(asked).exists():
        return named_plan(asked)
    return read_plan(asked) if asked else None


def open_said(data: str, said: dict[str, Any], plan: Plan | None, holdout: str | None = None) -> tuple[Table, list[str]]:
    """(the table that options and plan describe, where the options won over the plan)."""
    from chaff.cluster import Cluster
    from chaff.table.on_disk import Limit, files_behind
    from chaff.table.opening import open_on
    from chaff.table.terms import Terms

    asked = terms_said(said)
    planned = plan.table if plan is not None else Terms()
    terms = _another_target(planned, asked).changed_by(**asked)
    if not terms.target:
        where = ", or name it in the plan's [table]" if plan is not None else ""
        raise click.UsageError(f"which column is to be predicted? Pass --target NAME{where}")
    cluster = said.get("workers") if isinstance(said.get("workers"), Cluster) else None
    limit = Limit.of(said.get("memory"), said.get("scratch"), forced=cluster is not None)
    table = open_on(data, terms, holdout, limit)
    if cluster is not None:
        cluster.check_sees(files_behind(table.source))
    return table, _wins(asked, planned)


def _another_target(planned: Terms, asked: dict[str, Any]) -> Terms:
    """The plan's terms where the options name another target: it is ignored no more, and the plan's own one is."""
    target = asked.get("target")
    if not target or not planned.target or target == planned.target:
        return planned
    return planned.changed_by(ignore=[n for n in planned.ignore if n != target] + [planned.target], positive=None)


def _wins(asked: dict[str, Any], planned: Terms) -> list[str]:
    """Where an option wins over the plan, in words."""
    told = planned.as_mapping()
    fields = {f.name: f.metadata["option"] for f in dataclasses.fields(planned)}
    out = [f"{fields[k]} {_short(v)} wins over the plan ({_short(told[k])})" for k, v in asked.items() if k in told and told[k] != v]
    other = "target" in asked and planned.target and asked["target"] != planned.target
    return [*out, f"{planned.target} takes no part, being the plan's target"] if other else out


def _short(value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{k}={_short(v)}" for k, v in value.items())
    return ",".join(map(str, value)) if isinstance(value, list | tuple) else str(value)


def pins_of(said: dict[str, Any], plan: Plan | None) -> tuple[Pin, ...]:
    """The plan's pins with those of the options on top."""
    asked = pins_said(said)
    named = {p.feature for p in asked}
    return (*(p for p in (plan.pins if plan else ()) if p.feature not in named), *asked)


def stand(
    data: str,
    said: dict[str, Any],
    show: Show,
    before: tuple[str, ...] = (),
    sees: str = "rows",
    in_passes: Callable[[Ground], bool] | None = None,
) -> Ground:
    """Open the table and walk to where the command stands.

    Parameters
    ----------
    sees : "rows", "models" or "matrix"
        What the command does with a long table: figures of single columns, of a sample where it is on disk; models, on a sample; all
        columns side by side, several times over.
    in_passes : callable or None
        Whether what the command does needs no rows side by side in memory, so that all of them may be asked for; None where that is so
        for figures of single columns only.
    before : names of stages
        Where the command stands in a plan: everything in front of the first stage of these uses. Empty for the screen itself,
        in front of which nothing stands.
    """
    from chaff.decide.judging import not_dropped
    from chaff.decide.pins import checked_pins

    plan = read_said_plan(said)
    share, file = holdout_said(said["holdout"])
    whole, wins = open_said(data, said, plan, file)
    pins = pins_of(said, plan)
    pinned = checked_pins(pins, whole)
    table, held, notes = _without_holdout(whole, said, plan, share)
    table = not_dropped(table, pinned)
    passes = sees == "rows" if in_passes is None else in_passes(Ground(table, whole, pins, plan, (), held, ()))
    looked, note = _looked_at(table, said, sees, passes)
    notes += [note] if note else []
    left: tuple[str, ...] = ()
    if before and not said["all_columns"]:
        show.watch("the stages before")
        kept = _walked(looked, plan, pinned, said, before, None if looked is table else table)
        show.stop()
        left = tuple(f for f in table.features if f not in kept)
        if left:
            notes.append(f"left out by the stages before: {_some(left)} (--all-columns brings them back)")
        table, looked = table.with_features(kept), looked.with_features(kept)
    save_pins(said)
    table = looked
    return Ground(table, whole, pins, plan, left, held, (*wins, *notes))


def _without_holdout(table: Table, said: dict[str, Any], plan: Plan | None, share: float | None) -> tuple[Table, int, list[str]]:
    """(the rows to look at, how many are not, what is said of it): the same rows that `chaff select` sets aside."""
    from chaff.decide.holdout import set_aside
    from chaff.errors import DataError
    from chaff.work import Work

    if said["all_rows"]:
        return table, 0, ["all rows are looked at, those that `chaff select` holds out too"]
    if share is None:
        share = plan.score.holdout if plan else HOLDOUT
    try:
        rows, held, how = set_aside(table, share, Work(said["seed"]))
    except DataError:
        return table, 0, ["too few rows to hold any out: all are looked at"]
    if not held.size:
        return table, 0, []
    asked = f"--holdout {said['holdout']}" if how == "separate rows" else f"--seed {said['seed']}"
    words = f"{held.size:,} rows ({how}) are held out as `chaff select {asked}` will, and not looked at (--all-rows does)"
    return table.take(rows), int(held.size), [words]


def _looked_at(table: Table, said: dict[str, Any], sees: str, in_passes: bool) -> tuple[Table, str]:
    """(the rows that are looked at, what is said of them): of a long table a sample."""
    from chaff.cli.options import rows_said
    from chaff.decide.desk import COPIES, MATRIX, sample_of
    from chaff.work import Work

    asked = rows_said(said.get("model_rows"))
    return sample_of(table, asked, sees == "models", Work(said["seed"]), MATRIX if sees == "matrix" else COPIES, in_passes)


def _walked(
    table: Table, plan: Plan | None, pinned: dict[str, Pin], said: dict[str, Any], before: tuple[str, ...], whole: Table | None
) -> tuple[str, ...]:
    """The features that the stages before let through; `whole` has every row where `table` is a sample."""
    from chaff.errors import DataError
    from chaff.evaluate.setting import Setting
    from chaff.work import Work

    work = Work(said["seed"], said["workers"])
    try:
        if plan is None:
            return _screened(table, Setting.of(table, work=work, pins=pinned, whole=whole))
        score = plan.score
        setting = Setting.of(table, score.folds_for(table), score.repeats_for(table), work, pins=pinned, metric=score.metric, whole=whole)
    except DataError:
        return table.features  # too few rows or groups for folds: nothing can be left out honestly
    return _walked_plan(table, plan, setting, before)


def _screened(table: Table, setting: Setting) -> tuple[str, ...]:
    """What the plain screen lets through."""
    from chaff.decide.judging import confirmed, judge_stage
    from chaff.methods.screen.stage import Screen

    return confirmed(judge_stage(Screen(), table, setting), setting).kept


def _walked_plan(table: Table, plan: Plan, setting: Setting, before: tuple[str, ...]) -> tuple[str, ...]:
    """What the plan's stages in front of these let through; of a plan without them, what its screen does."""
    from chaff.decide.plan import Plan
    from chaff.decide.walk import walk_stages

    first = next((k for k, s in enumerate(plan.stages) if s.use in before), None)
    stages = plan.stages[:first] if first is not None else tuple(s for s in plan.stages if s.use == "screen")
    return walk_stages(Plan(stages, plan.score), table, setting).kept if stages else table.features


def save_pins(said: dict[str, Any]) -> None:
    """Write the pins of the options into the plan file."""
    if not said.get("save"):
        return
    from chaff.decide.plan_file import add_pins

    add_pins(said["plan_file"], pins_said(said))


def _some(names: tuple[str, ...], most: int = 8) -> str:
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")
