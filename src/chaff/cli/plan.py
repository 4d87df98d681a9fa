"""`chaff plan`: the built-in plan as a file to start from, fitted to a table."""

from __future__ import annotations

from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import pin_options, plan_option, rows_options, table_options, work_options
from chaff.errors import nearest

if TYPE_CHECKING:
    from chaff.decide.plan import Plan

QUESTIONS = {
    "ignore": "Columns not to be used, such as other targets (A,B; empty for none)",
    "ids": "Columns that identify rows (empty for none)",
    "groups": "Column whose rows belong together, such as a customer (empty for none)",
    "order": "Column that orders rows in time, where splits have to respect it (empty for none)",
    "protected": "Columns that must not be used, and not be predicted (empty for none)",
}


@click.command(
    "plan",
    cls=Command,
    everyday=["--target", "--plan", "--start", "--from", "--ids", "--ignore", "--groups", "--order", "--out", "--replace"],
    examples=["chaff plan lots.csv --target loaf_volume -o mill.toml"],
)
@click.argument("data", type=click.Path(), required=False)
@table_options
@plan_option
@pin_options
@rows_options
@click.option("--start", metavar="NAME", help="Start from this plan: 'built in', quick, linear, trees or thorough.")
@click.option("--from", "from_selection", type=click.Path(), metavar="SELECTION", help="The plan that made this selection, to the letter.")
@click.option("-o", "--out", metavar="FILE", type=click.Path(dir_okay=False), help="Write to this file; printed when left out.")
@click.option("--ask", is_flag=True, help="Ask for target, roles and pins, one question at a time.")
@click.option("--replace", is_flag=True, help="Overwrite an existing file.")
@work_options
def command(data: str | None, out: str | None, replace: bool, **options: Any) -> None:
    """Write a plan to change and pass on with --plan: fitted to the file DATA, or the built-in one without it.

    Fitted: roles and kinds as found, what the screen advises as lines to uncomment, and the stages.
    """
    from chaff.cli.console import Show
    from chaff.files import keep_existing, write_text

    if out and not replace and Path(out).exists():
        raise click.UsageError(f"--out {out}: it already exists and may contain lines of your own; choose another name, or pass --replace")
    if options["ask"]:
        if data is None:
            raise click.UsageError("--ask needs DATA, the file that the plan is for")
        options |= _answers(data, options)
    show = Show(options["form"])
    text = _text(data, options, show)
    if out:
        with keep_existing(False) if replace else nullcontext():
            write_text(out, text)
        show.say(f" {out}: read it, uncomment what fits, then")
        show.command(f"   chaff screen {data or 'DATA'} --plan {out}")
    elif options["form"] == "text":
        click.echo(text, nl=False)
        return
    show.finish("plan", {"plan": text}, [out] if out else [])


def _text(data: str | None, options: dict[str, Any], show: Any) -> str:
    """The plan of a selection, one fitted to a file, or a named one as it is."""
    from chaff.decide.named_plans import named_plan

    if options["from_selection"]:
        if data is not None or options["start"]:
            raise click.UsageError("--from takes the plan of a selection as it is: leave DATA and --start away")
        return _of_selection(options["from_selection"])
    plan = named_plan(options["start"] or "built in")
    return plan.to_toml() if data is None else _fitted(data, options, show, plan)


def _answers(data: str, options: dict[str, Any]) -> dict[str, Any]:
    """What a person says of the columns, on top of the options; an empty line leaves a question out."""
    from chaff.table.files.reading import Reading
    from chaff.table.files.sources import read_source

    names = list(map(str, read_source(data, Reading())[0].column_names))
    click.echo(f"{data}: {', '.join(names)}", err=True)
    out: dict[str, Any] = {}
    if not options["target"]:
        out["target"] = click.prompt("Column to predict", type=click.Choice(names), show_choices=False, err=True)
    for name, question in QUESTIONS.items():
        if options[name]:
            continue
        given = [w.strip() for w in str(click.prompt(question, default="", show_default=False, err=True)).split(",") if w.strip()]
        if wrong := [w for w in given if w not in names]:
            raise click.UsageError(f"'{wrong[0]}' is no column of {data}.{nearest(wrong[0], names)}")
        if given:
            out[name] = tuple(given) if name in ("ignore", "ids", "protected") else given[0]
    return out


def _of_selection(path: str) -> str:
    from chaff.decide.plan import plan_from
    from chaff.decide.selection import read_selection
    from chaff.files import reads
    from chaff.visible import visible

    reads(path)
    chosen = read_selection(path)
    head = (
        f"# The plan that made {visible(Path(path).name, long=True)}: {len(chosen.kept)} features kept of "
        f"{visible(chosen.data.source, long=True)} ({chosen.data.rows:,} rows).\n"
    )
    return head + f"# Run it again: chaff select DATA --plan THIS --seed {chosen.seed}\n\n" + plan_from(chosen.plan).to_toml()


def _fitted(data: str, options: dict[str, Any], show: Any, start: Plan) -> str:
    from chaff.cli.command_context import stand
    from chaff.decide.one_stage import findings_of, judge
    from chaff.decide.plan_file import fitted_plan
    from chaff.methods.screen.stage import Screen

    context = stand(data, {**options, "all_columns": True}, show)
    show.watch("screen")
    stage = context.stage(Screen)
    keeps = [p for p in context.pins if p.verdict == "keep"]
    result = findings_of(judge(stage, context.table, pins=keeps, folds=5, seed=options["seed"], workers=options["workers"]))
    show.stop()
    return fitted_plan(context.plan or start, context.whole, result, context.pins, context.held)
