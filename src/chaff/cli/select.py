"""`chaff select`: a plan on a person's own file."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.options import (
    holdout_said,
    limits_said,
    pin_options,
    plan_option,
    rows_said,
    rows_said_option,
    table_options,
    work_options,
)  # fmt: skip

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.decide.plan import Plan
    from chaff.decide.run import Run
    from chaff.methods.evaluation.evaluation import Evaluation
    from chaff.methods.evaluation.everywhere import Everywhere
    from chaff.methods.evaluation.protection import Protection


@click.command("select")
@click.argument("data", type=click.Path())
@table_options
@plan_option
@click.option("--holdout", metavar="SHARE|FILE", help="A share of the rows (default 0.2, 0 for none), or a file with separate rows.")
@click.option("--out", default="chaff-out", show_default=True, help="Folder for the results.")
@pin_options
@click.option("--model", help="The model that you will use: ridge, logistic, forest … Left out: a linear lens and a forest.")
@click.option("--metric", help="r2, rmse, mae; log_loss, auc, accuracy.")
@click.option("--folds", type=click.IntRange(2), help="Folds (5; 10 under 50 rows).")
@rows_said_option
@click.option("--repeats", type=click.IntRange(1), help="Repeats of the folds (10 under 100 rows, 3 under 700, else 1).")
@click.option("--size", type=click.IntRange(0), help="Search: the best set of so many features.")
@click.option("--keep-share", type=float, help="Search: the smallest set that holds this share of the best's gain over nothing.")
@click.option("--pair-limit", type=float, help="Overlap: |r| over which a pair says the same (0.95).")
@click.option("--vif-limit", type=float, help="Overlap: variance inflation over which a feature goes (10).")
@click.option("--margin", type=float, help="Search: at most so much worse than the best, in place of the rule.")
@click.option("--set", "settings", multiple=True, metavar="STAGE.KEY=VALUE", help="Any other field of a stage. Repeatable.")
@click.option(
    "--honest",
    type=click.Choice(["cheap", "full"]),
    default="cheap",
    show_default=True,
    help="How the honest score is made: from the search's own folds, or the whole plan anew in each outer fold.",
)
@click.option("--quick", is_flag=True, help="Leave the honest score out, and promise nothing.")
@click.option("--no-state", is_flag=True, help="Do not count, across runs, how often this holdout was read.")
@click.option(
    "--decoys", type=click.IntRange(1), metavar="N", help="Put N columns of known noise in, and count those kept; none is written out."
)
@click.option(
    "--evaluate",
    is_flag=True,
    help="The final model on the holdout, full and kept side by side: metrics with intervals, class table, worst rows.",
)
@click.option(
    "--threshold", type=click.FloatRange(0, 1), help="With --evaluate, two classes: the share from which the positive one is said."
)
@click.option(
    "--everywhere", is_flag=True, help="Does it hold in every group or period? Each kept column's relation and the score, by part."
)
@click.option("--by", metavar="NAME", help="With --everywhere: parts by this column of words, in place of groups or order.")
@click.option("--report", is_flag=True, help="Leave report.html too: one page that tells it all, works from disk, prints.")
@click.option("--times", is_flag=True, help="Say where the time went, by stage.")
@work_options
def command(data: str, **said: Any) -> None:
    """Select features of the file DATA (.csv, .parquet, .feather, .jsonl) by a plan.

    Leaves selection.json, ledger.csv, plan.toml, the reduced table and a figure in the --out folder.
    """
    from chaff.cli.console import QUIET, Show
    from chaff.cli.ground import open_said, pins_of, read_said_plan, save_pins
    from chaff.cli.output import free_for, kind_of, leave, run_and_show
    from chaff.cli.stopwatch import AFTER
    from chaff.decide.plan import LET_THROUGH, built_in_plan, plan_for
    from chaff.files import make_folder, reads

    given = read_said_plan(said)
    _with_options(given or built_in_plan(), said)  # what is wrong with the options is said before anything is read
    share, rows = holdout_said(said["holdout"])
    table, wins = open_said(data, said, given, rows)
    plan = _with_options(given or plan_for(table), said)
    if given is None and len(plan.stages) > len(built_in_plan().stages):
        wins.append(
            f"{len(table.features):,} columns: relevance lets the best {LET_THROUGH:,} through first, anew inside every fold (--plan wide)"
        )
    table = table.with_decoys(said["decoys"], seed=said["seed"]) if said["decoys"] else table
    pins = pins_of(said, given)
    folder = make_folder(said["out"])
    reads(data)
    reduced = f"reduced{kind_of(data)}"
    _check_evaluate(said, table, share)
    more = [*(("evaluation.png", "holdout_predictions.csv") if said["evaluate"] else ()), *(["report.html"] if said["report"] else [])]
    again = free_for(folder, reduced, table, dataclasses.replace(plan, pins=()), pins, said["seed"], more)
    save_pins(said)
    show = Show(said["form"])
    show.table(table)
    for note in wins:
        show.say(note, QUIET)
    ways = {"honest": "quick" if said["quick"] else said["honest"], "state": not said["no_state"]}
    run = run_and_show(table, dataclasses.replace(plan, pins=()), list(pins), folder, show, said["seed"], said["workers"], share, **ways)
    show.stopwatch.turn(AFTER)
    found = _evaluated(run, said, show) if said["evaluate"] else None
    parts, stand_ins = _afterwards(run, said, show)
    names = leave(
        run,
        folder,
        data,
        reduced,
        more=_files_of(found, said["threshold"]) | _page_of(run, found, parts, stand_ins, said["report"]),
        again=again,
    )
    if said["times"]:
        _times(show)
    times = {"times": show.stopwatch.spent} if said["times"] else {}
    asked = {"evaluation": found, "everywhere": parts, "protection": stand_ins}
    evaluation = {k: v for k, v in asked.items() if v is not None}
    show.finish("select", {"run": run, **evaluation, **times}, [str(folder / n) for n in names])
    show.command(f" next: chaff apply {folder}/selection.json NEW{Path(data).suffix or kind_of(data)} -o NEW_reduced.csv")


def _check_evaluate(said: dict[str, Any], table: Any, share: float | None) -> None:
    """What can be told before any work."""
    if said["threshold"] is not None and not said["evaluate"]:
        raise click.UsageError("--threshold goes with --evaluate")
    if said["threshold"] is not None and len(table.target.classes) != 2:
        raise click.UsageError(f"--threshold is for two classes; {table.target.name} has {len(table.target.classes) or 'numbers'}")
    if said["by"] and not said["everywhere"]:
        raise click.UsageError("--by goes with --everywhere")
    if said["everywhere"] and not said["by"] and table.groups is None and table.order is None:
        raise click.UsageError("--everywhere of what? Say --by NAME (a column of words), --groups or --order")
    if said["by"] and said["by"] not in (table.terms.groups, table.terms.order):
        table.check_known([said["by"]])
    if said["evaluate"] and share == 0:
        raise click.UsageError("--evaluate needs rows that are held out: leave --holdout 0 away")


def _evaluated(run: Run, said: dict[str, Any], show: Show) -> Evaluation:
    from chaff.cli.evaluated import show_evaluation

    found = run.evaluate(workers=said["workers"], state=not said["no_state"])
    show_evaluation(show, found, said["threshold"])
    return found


def _afterwards(run: Run, said: dict[str, Any], show: Show) -> tuple[Everywhere | None, Protection | None]:
    """Whether it holds everywhere, where that is asked; what the kept set tells of what must not be used, where anything is protected."""
    from chaff.cli.evaluated import show_everywhere, show_protection

    parts = run.holds_everywhere(said["by"], workers=said["workers"]) if said["everywhere"] and run.features else None
    stand_ins = run.protection(workers=said["workers"]) if run.table.terms.protected and run.features else None
    if parts is not None:
        show_everywhere(show, parts)
    if stand_ins is not None:
        show_protection(show, stand_ins)
    return parts, stand_ins


def _page_of(
    run: Run, found: Evaluation | None, parts: Everywhere | None, stand_ins: Protection | None, asked: bool
) -> dict[str, Any]:  # fmt: skip
    """The page, where it is asked for."""
    if not asked:
        return {}
    from chaff.report.writing import write_report

    return {"report.html": lambda part: write_report(run, part, evaluation=found, everywhere=parts, protection=stand_ins)}


def _files_of(found: Evaluation | None, threshold: float | None) -> dict[str, Any]:
    """What an evaluation leaves: a figure, and what was predicted of every held out row."""
    if found is None:
        return {}
    from chaff.files import harmless
    from chaff.plots.evaluation_figures import evaluated

    return {
        "evaluation.png": lambda part: evaluated(found, threshold=threshold).savefig(part),
        "holdout_predictions.csv": lambda part: harmless(found.losses).to_csv(part),
    }


def _times(show: Show) -> None:
    """Where the time went."""
    from chaff.cli.grids import grid, title

    title(show, "Where the time went")
    grid(show, ["", "seconds", "share"], [list(row) for row in show.stopwatch.rows()], asked=("", "seconds", "share"), names=0)


def _with_options(plan: Plan, said: dict[str, Any]) -> Plan:
    """The plan with what the options say of scores and stages on top."""
    from chaff.decide.plan import with_settings

    score = {k: said[k] for k in ("model", "metric", "folds", "repeats") if said[k] is not None}
    score |= {"rows": rows_said(said["model_rows"])} if said["model_rows"] is not None else {}
    plan = with_settings(plan, _stage_settings(said))
    return dataclasses.replace(plan, score=dataclasses.replace(plan.score, **score))


def _stage_settings(said: dict[str, Any]) -> dict[str, dict[str, Any]]:
    out: dict[str, dict[str, Any]] = {}
    for option, stage in (
        ("pair_limit", "overlap"),
        ("vif_limit", "overlap"),
        ("margin", "search"),
        ("size", "search"),
        ("keep_share", "search"),
    ):
        if said[option] is not None:
            out.setdefault(stage, {})[option] = said[option]
    for name, value in limits_said(said["settings"], "--set").items():
        if "." not in name:
            raise click.UsageError(f"--set {name}: write STAGE.KEY=VALUE, for example screen.missing_share=0.8")
        stage, key = name.split(".", 1)
        out.setdefault(stage, {})[key] = value
    return out
