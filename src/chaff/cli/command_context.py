"""The context a looking command stands on: the table as the plan and the options open it, without the rows that `chaff select`
will hold out, without what the stages before leave out."""

from __future__ import annotations

import dataclasses
import shlex
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.console import QUIET, Show
from chaff.cli.options import parse_holdout, parse_pins, parse_table_options, terms_as_options
from chaff.cli.stage_options import given_settings, goes_with
from chaff.visible import listed

if TYPE_CHECKING:
    from chaff.decide.plan import Plan
    from chaff.evaluate.setting import Setting
    from chaff.results.verdict import Pin
    from chaff.table.table import Table
    from chaff.table.terms import Terms


HOLDOUT = 0.2  # as a plan has it where nothing is said


@dataclass(frozen=True)
class CommandContext:
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
    settings: tuple[tuple[str, Any], ...] = ()
    """Settings of the command's stage that options name."""

    def stage(self, cls: type, **options: Any) -> Any:
        """The plan's first stage of this kind, or a plain one, with what the options said on top."""
        from chaff.decide.stages import make_stage, stage_as_plain
        from chaff.errors import UsageError

        if other := [k for k, _ in self.settings if k not in {f.name for f in dataclasses.fields(cls)}]:
            raise click.UsageError(f"--{other[0].replace('_', '-')} goes with {goes_with(other[0]) or 'another command'}")
        given = [s for s in (self.plan.stages if self.plan else ()) if isinstance(s, cls)]
        base = {k: v for k, v in stage_as_plain(given[0], off=False).items() if k != "use"} if given else {}
        problems: list[str] = []
        made = make_stage(
            cls, {**base, **dict(self.settings), **{k: v for k, v in options.items() if v is not None}}, cls.__name__.lower(), problems
        )
        if made is None:
            raise UsageError("; ".join(problems))
        return made

    def tell(self, show: Show) -> None:
        """The table and what is not looked at, in a few lines."""
        show.table(self.table)
        for note in self.notes:
            show.say(note, QUIET)

    def following(self, data: str, options: Mapping[str, Any], command: str, *words: str) -> str:
        """The same table in another command, ready to paste."""
        roles = ["--plan", options["plan_file"]] if options.get("plan_file") else terms_as_options(self.whole.terms)
        if "--features" in words and "--features" in roles:  # what was named before gives way
            place = roles.index("--features")
            roles = roles[:place] + roles[place + 2 :]
        return shlex.join(["chaff", command, data, *roles, *words])

    def following_search(self, data: str, options: Mapping[str, Any], kept: Sequence[str]) -> str:
        """A search among what findings kept, from the file that holds them where there is one."""
        found = options["out"] if str(options["out"] or "").endswith(".json") else options["save_selection"]
        return self.following(data, options, "search", "--features", f"@{found}" if found else ",".join(kept))

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


def read_plan_option(options: dict[str, Any]) -> Plan | None:
    from pathlib import Path

    requested = options.get("plan_file")
    if not requested:
        return None
    from chaff.decide.named_plans import NAMED, named_plan
    from chaff.decide.plan import read_plan

    if requested in NAMED and not Path(requested).exists():
        return named_plan(requested)
    return read_plan(requested)


def open_data(
    data: str, options: dict[str, Any], plan: Plan | None, holdout: str | None = None, needs_target: bool = True
) -> tuple[Table, list[str]]:
    """(the table that options and plan describe, where the options won over the plan)."""
    from chaff.cluster import Cluster
    from chaff.table.large_tables import Limit, files_behind
    from chaff.table.opening import open_on
    from chaff.table.terms import Terms

    requested = parse_table_options(options)
    planned = plan.table if plan is not None else Terms()
    terms = _another_target(planned, requested).changed_by(**requested)
    if not terms.target and needs_target and _can_ask(options):
        terms = terms.changed_by(target=_asked_target(data))
    if not terms.target and needs_target:
        where = ", or name it in the plan's [table]" if plan is not None else ""
        raise click.UsageError(f"missing --target NAME (the column to predict){where}")
    cluster = options.get("workers") if isinstance(options.get("workers"), Cluster) else None
    limit = Limit.of(options.get("memory"), options.get("scratch"), forced=cluster is not None)
    table = open_on(data, terms, holdout, limit)
    if cluster is not None:
        cluster.check_sees(files_behind(table.source))
    return table, [*(plan.notes if plan is not None else ()), *_wins(requested, planned)]


def _can_ask(options: dict[str, Any]) -> bool:
    """Whether a person sits at a terminal, and waits for no JSON."""
    return options.get("form") != "json" and sys.stdin.isatty() and sys.stdout.isatty()


def _asked_target(data: str) -> str:
    """The column to predict, from a person at a terminal; "" where the columns cannot be listed."""
    from chaff.table.files.reading import Reading
    from chaff.table.files.sources import read_source

    names = list(map(str, read_source(data, Reading())[0].column_names))
    click.echo(f"Columns: {listed(names, 40)}", err=True)
    return str(click.prompt("Column to predict", type=click.Choice(names), show_choices=False, err=True))


def _another_target(planned: Terms, requested: dict[str, Any]) -> Terms:
    """The plan's terms where the options name another target: it is ignored no more, and the plan's own one is."""
    target = requested.get("target")
    if not target or not planned.target or target == planned.target:
        return planned
    return planned.changed_by(ignore=[n for n in planned.ignore if n != target] + [planned.target], positive=None)


def _wins(requested: dict[str, Any], planned: Terms) -> list[str]:
    """Where an option overrides the plan, in words."""
    text = planned.as_mapping()
    fields = {f.name: f.metadata["option"] for f in dataclasses.fields(planned)}
    out = [f"{fields[k]} {_short(v)} overrides the plan ({_short(text[k])})" for k, v in requested.items() if k in text and text[k] != v]
    other = "target" in requested and planned.target and requested["target"] != planned.target
    return [*out, f"{planned.target} is ignored: it is the plan's target"] if other else out


def _short(value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{k}={_short(v)}" for k, v in value.items())
    return ",".join(map(str, value)) if isinstance(value, list | tuple) else str(value)


def pins_of(options: dict[str, Any], plan: Plan | None) -> tuple[Pin, ...]:
    """The plan's pins with those of the options on top."""
    requested = parse_pins(options)
    named = {p.feature for p in requested}
    return (*(p for p in (plan.pins if plan else ()) if p.feature not in named), *requested)


def stand(
    data: str,
    options: dict[str, Any],
    show: Show,
    before: tuple[str, ...] = (),
    sees: str = "rows",
    in_passes: Callable[[CommandContext], bool] | None = None,
    needs_target: bool = True,
) -> CommandContext:
    """Open the table and walk to where the command stands.

    Parameters
    ----------
    sees : "rows", "models" or "matrix"
        What the command does with a long table: figures of single columns, of a sample where it is on disk; models, on a sample; all
        columns side by side, several times over.
    in_passes : callable or None
        Whether what the command does needs no rows side by side in memory, so that all of them may be asked for; None where that is so
        for figures of single columns only.
    needs_target : bool
        Whether there must be something to predict.
    before : names of stages
        Where the command stands in a plan: everything in front of the first stage of these uses. Empty for the screen itself,
        in front of which nothing stands.
    """
    from chaff.decide.pins import checked_pins
    from chaff.decide.stage_report import not_dropped

    plan = read_plan_option(options)
    settings = tuple(given_settings(options).items())
    share, file = parse_holdout(options["holdout"])
    whole, wins = open_data(data, options, plan, file, needs_target)
    share = share if whole.has_target else 0.0  # there is nothing to be held out for
    pins = pins_of(options, plan)
    pinned = checked_pins(pins, whole)
    table, held, notes = _without_holdout(whole, options, plan, share)
    table = not_dropped(table, pinned)
    passes = sees == "rows" if in_passes is None else in_passes(CommandContext(table, whole, pins, plan, (), held, (), settings))
    looked, note = _looked_at(table, options, sees, passes)
    notes += [note] if note else []
    left: tuple[str, ...] = ()
    if before and not options["all_columns"] and not options["features"]:  # what was named is looked at
        show.watch("the preceding stages")
        kept = _walked(looked, plan, pinned, options, before, None if looked is table else table)
        show.stop()
        left = tuple(f for f in table.features if f not in kept)
        if left:
            notes.append(f"dropped by the preceding stages: {listed(left, 8)} (use --all-columns to include them)")
        table, looked = table.with_features(kept), looked.with_features(kept)
    save_pins(options)
    table = looked
    return CommandContext(table, whole, pins, plan, left, held, (*wins, *notes), settings)


def _without_holdout(table: Table, options: dict[str, Any], plan: Plan | None, share: float | None) -> tuple[Table, int, list[str]]:
    """(the rows to look at, how many are not, what is said of it): the same rows that `chaff select` sets aside."""
    from chaff.decide.holdout import set_aside
    from chaff.errors import DataError
    from chaff.work import Work

    if options["all_rows"]:
        return table, 0, ["all rows are included, the holdout of `chaff select` too"]
    if share is None:
        share = plan.score.holdout if plan else HOLDOUT
    try:
        rows, held, how = set_aside(table, share, Work(options["seed"]))
    except DataError:
        return table, 0, ["too few rows for a holdout; using all"]
    if not held.size:
        return table, 0, []
    requested = f"--holdout {options['holdout']}" if how == "separate rows" else f"--seed {options['seed']}"
    words = (
        f"holdout: {held.size:,} rows ({how}) excluded, the same rows that `chaff select {requested}` holds out "
        "(use --all-rows to include them)"
    )
    return table.take(rows), int(held.size), [words]


def _looked_at(table: Table, options: dict[str, Any], sees: str, in_passes: bool) -> tuple[Table, str]:
    """(the rows that are looked at, what is said of them): of a long table a sample."""
    from chaff.cli.options import parse_rows
    from chaff.decide.row_sample import MATRIX, sample_of
    from chaff.table.large_tables import COPIES
    from chaff.work import Work

    requested = parse_rows(options.get("model_rows"))
    return sample_of(table, requested, sees == "models", Work(options["seed"]), MATRIX if sees == "matrix" else COPIES, in_passes)


def _walked(
    table: Table, plan: Plan | None, pinned: dict[str, Pin], options: dict[str, Any], before: tuple[str, ...], whole: Table | None
) -> tuple[str, ...]:
    """The features that the stages before let through; `whole` has every row where `table` is a sample."""
    from chaff.cli.screen_cache import remembered
    from chaff.errors import DataError
    from chaff.evaluate.setting import Setting
    from chaff.work import Work

    work = Work(options["seed"], options["workers"])
    try:
        if plan is None:

            def screen() -> tuple[str, ...]:
                folded = Setting.of if table.has_target else Setting.unfolded
                return _screened(table, folded(table, work=work, pins=pinned, whole=whole))

            return screen() if whole is not None or options["no_cache"] else remembered(table, pinned, work.seed, screen)
        score = plan.score
        setting = Setting.of(table, score.folds_for(table), score.repeats_for(table), work, pins=pinned, metric=score.metric, whole=whole)
    except DataError:
        return table.features  # too few rows or groups for folds: nothing can be left out honestly
    return _walked_plan(table, plan, setting, before)


def _screened(table: Table, setting: Setting) -> tuple[str, ...]:
    """What the plain screen lets through."""
    from chaff.decide.stage_report import confirmed, judge_stage
    from chaff.methods.screen.stage import Screen

    return confirmed(judge_stage(Screen(), table, setting), setting).kept


def _walked_plan(table: Table, plan: Plan, setting: Setting, before: tuple[str, ...]) -> tuple[str, ...]:
    """What the plan's stages in front of these let through; of a plan without them, what its screen does."""
    from chaff.decide.plan import Plan
    from chaff.decide.run_stages import run_stages

    first = next((k for k, s in enumerate(plan.stages) if s.use in before), None)
    stages = plan.stages[:first] if first is not None else tuple(s for s in plan.stages if s.use == "screen")
    return run_stages(Plan(stages, plan.score), table, setting).kept if stages else table.features


def save_pins(options: dict[str, Any]) -> None:
    """Write the pins of the options into the plan file."""
    if not options.get("save"):
        return
    from chaff.decide.plan_file import add_pins

    add_pins(options["plan_file"], parse_pins(options))
