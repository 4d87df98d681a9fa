"""`chaff plan`: the built-in plan as a file to start from, fitted to a table."""

from __future__ import annotations

from contextlib import nullcontext
from pathlib import Path
from typing import Any

import click

from chaff.cli.options import pin_options, plan_option, rows_options, table_options, work_options


@click.command("plan")
@click.argument("data", type=click.Path(), required=False)
@table_options
@plan_option
@pin_options
@rows_options
@click.option("-o", "--out", metavar="FILE", type=click.Path(dir_okay=False), help="Write to this file; printed when left out.")
@click.option("--replace", is_flag=True, help="Write over a file that is there already.")
@work_options
def command(data: str | None, out: str | None, replace: bool, **said: Any) -> None:
    """Write a plan to change and pass on with --plan: fitted to the file DATA, or the built-in one without it.

    Fitted: roles and kinds as found, what the screen advises as lines to uncomment, and the stages.
    """
    from chaff.cli.console import Show
    from chaff.decide.plan import built_in_plan
    from chaff.files import keep_existing, write_text

    if out and not replace and Path(out).exists():
        raise click.UsageError(f"--out {out}: it is there already, and may hold lines of your own; name another file, or say --replace")
    show = Show(said["form"])
    text = built_in_plan().to_toml() if data is None else _fitted(data, said, show)
    if out:
        with keep_existing(False) if replace else nullcontext():
            write_text(out, text)
        show.say(f" {out}: read it, uncomment what fits, then")
        show.command(f"   chaff screen {data or 'DATA'} --plan {out}")
    elif said["form"] == "text":
        click.echo(text, nl=False)
        return
    show.finish("plan", {"plan": text}, [out] if out else [])


def _fitted(data: str, said: dict[str, Any], show: Any) -> str:
    from chaff.cli.console import tell_of_compiling
    from chaff.cli.ground import stand
    from chaff.decide.calls.judged import findings_of, judge
    from chaff.decide.plan import built_in_plan
    from chaff.decide.plan_file import fitted_plan
    from chaff.methods.screen.stage import Screen

    ground = stand(data, {**said, "all_columns": True}, show)
    tell_of_compiling(show)
    show.watch("screen")
    stage = ground.stage(Screen)
    keeps = [p for p in ground.pins if p.verdict == "keep"]
    found = findings_of(judge(stage, ground.table, pins=keeps, folds=5, seed=said["seed"], workers=said["workers"]))
    show.stop()
    return fitted_plan(ground.plan or built_in_plan(), ground.whole, found, ground.pins, ground.held)
