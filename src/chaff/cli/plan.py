"""`chaff plan`: the built-in plan as a file to start from, fitted to a table."""

from __future__ import annotations

from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.options import pin_options, plan_option, rows_options, table_options, work_options

if TYPE_CHECKING:
    from chaff.decide.plan import Plan


@click.command("plan")
@click.argument("data", type=click.Path(), required=False)
@table_options
@plan_option
@pin_options
@rows_options
@click.option("--start", metavar="NAME", help="Start from this plan: 'built in', quick, linear, trees or thorough.")
@click.option("--from", "from_selection", type=click.Path(), metavar="SELECTION", help="The plan that made this selection, to the letter.")
@click.option("-o", "--out", metavar="FILE", type=click.Path(dir_okay=False), help="Write to this file; printed when left out.")
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
    from chaff.cli.console import report_compiling
    from chaff.decide.one_stage import findings_of, judge
    from chaff.decide.plan_file import fitted_plan
    from chaff.methods.screen.stage import Screen

    context = stand(data, {**options, "all_columns": True}, show)
    report_compiling(show)
    show.watch("screen")
    stage = context.stage(Screen)
    keeps = [p for p in context.pins if p.verdict == "keep"]
    result = findings_of(judge(stage, context.table, pins=keeps, folds=5, seed=options["seed"], workers=options["workers"]))
    show.stop()
    return fitted_plan(context.plan or start, context.whole, result, context.pins, context.held)
