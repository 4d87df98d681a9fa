"""`chaff select`: a plan on a user's own file."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.options import (
    MODELS,
    parse_holdout,
    parse_limits,
    parse_rows,
    pin_options,
    plan_option,
    rows_option,
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
@click.option("--model", help=f"The model you will use: {MODELS}. Default: a linear model and a forest, and the better one decides.")
@click.option("--metric", help="r2, rmse, mae; log_loss, auc, accuracy.")
@click.option("--folds", type=click.IntRange(2), help="Folds (5; 10 under 50 rows).")
@rows_option
@click.option("--repeats", type=click.IntRange(1), help="Repeats of the folds (10 under 100 rows, 3 under 700, else 1).")
@click.option("--size", type=click.IntRange(0), help="Search: the best set of N features.")
@click.option("--keep-share", type=float, help="Search: share of the best improvement over the baseline that the selected size must reach.")
@click.option("--pair-limit", type=float, help="Overlap: |r| above which two features are near-duplicates (0.95).")
@click.option("--vif-limit", type=float, help="Overlap: VIF above which a feature is proposed for removal (10).")
@click.option("--margin", type=float, help="Search: size tolerance in metric units, in place of the rule.")
@click.option("--total-cost", type=float, help="Search: what a set may cost, by --cost and --panel.")
@click.option("--set", "settings", multiple=True, metavar="STAGE.KEY=VALUE", help="Any other field of a stage. Repeatable.")
@click.option(
    "--honest",
    type=click.Choice(["cheap", "full"]),
    default="cheap",
    show_default=True,
    help="How the honest score is made: reuse the search folds (cheap), or rerun the whole plan in each outer fold (full: nested CV).",
)
@click.option("--quick", is_flag=True, help="Skip the honest score: CV scores are then optimistic, and no test is made.")
@click.option("--no-state", is_flag=True, help="Do not count the reads of this holdout across runs.")
@click.option(
    "--decoys", type=click.IntRange(1), metavar="N", help="Add N noise features (decoys) and count those kept; none is written out."
)
@click.option(
    "--evaluate",
    is_flag=True,
    help="The final model on the holdout, screened and selected set side by side: metrics with 95 % CI, confusion matrix, worst rows.",
)
@click.option(
    "--threshold",
    type=click.FloatRange(0, 1),
    help="With --evaluate, two classes: probability at or above which the positive class is predicted.",
)
@click.option("--everywhere", is_flag=True, help="Slope of each kept feature, and the score, in every group or period.")
@click.option("--by", metavar="NAME", help="With --everywhere: parts by this category column, in place of groups or order.")
@click.option("--report", is_flag=True, help="Write report.html too: one page, works from disk, prints.")
@click.option("--times", is_flag=True, help="Report the time of each stage.")
@work_options
def command(data: str, **options: Any) -> None:
    """Select features of the file DATA (.csv, .parquet, .feather, .jsonl) by a plan.

    Leaves selection.json, ledger.csv, plan.toml, the reduced table and a figure in the --out folder.
    """
    from chaff.cli.command_context import open_data, pins_of, read_plan_option, save_pins
    from chaff.cli.console import AFTER, QUIET, Show
    from chaff.cli.output import free_for, kind_of, leave, run_and_show
    from chaff.decide.plan import LET_THROUGH, built_in_plan, plan_for
    from chaff.files import make_folder, reads

    given = read_plan_option(options)
    _with_options(given or built_in_plan(), options)  # what is wrong with the options is said before anything is read
    share, rows = parse_holdout(options["holdout"])
    table, wins = open_data(data, options, given, rows)
    plan = _with_options(given or plan_for(table), options)
    if given is None and len(plan.stages) > len(built_in_plan().stages):
        wins.append(
            f"{len(table.features):,} columns: relevance keeps the best {LET_THROUGH:,} first, repeated inside every fold (--plan wide)"
        )
    table = table.with_decoys(options["decoys"], seed=options["seed"]) if options["decoys"] else table
    pins = pins_of(options, given)
    folder = make_folder(options["out"])
    reads(data)
    reduced = f"reduced{kind_of(data)}"
    _check_evaluate(options, table, share)
    more = [
        *(("evaluation.png", "holdout_predictions.csv") if options["evaluate"] else ()),
        *(["report.html"] if options["report"] else []),
    ]
    again = free_for(folder, reduced, table, dataclasses.replace(plan, pins=()), pins, options["seed"], more)
    save_pins(options)
    show = Show(options["form"])
    show.table(table)
    for note in wins:
        show.say(note, QUIET)
    ways = {"honest": "quick" if options["quick"] else options["honest"], "state": not options["no_state"]}
    run = run_and_show(
        table, dataclasses.replace(plan, pins=()), list(pins), folder, show, options["seed"], options["workers"], share, **ways
    )
    show.stopwatch.turn(AFTER)
    result = _evaluated(run, options, show) if options["evaluate"] else None
    parts, interchangeable = _afterwards(run, options, show)
    names = leave(
        run,
        folder,
        data,
        reduced,
        more=_files_of(result, options["threshold"]) | _page_of(run, result, parts, interchangeable, options["report"]),
        again=again,
    )
    if options["times"]:
        _times(show)
    times = {"times": show.stopwatch.spent} if options["times"] else {}
    requested = {"evaluation": result, "everywhere": parts, "protection": interchangeable}
    evaluation = {k: v for k, v in requested.items() if v is not None}
    following = f"chaff apply {folder}/selection.json NEW{Path(data).suffix or kind_of(data)} -o NEW_reduced.csv"
    show.finish("select", {"run": run, **evaluation, **times}, [str(folder / n) for n in names], following)


def _check_evaluate(options: dict[str, Any], table: Any, share: float | None) -> None:
    """What can be told before any work."""
    if options["threshold"] is not None and not options["evaluate"]:
        raise click.UsageError("--threshold goes with --evaluate")
    if options["threshold"] is not None and len(table.target.classes) != 2:
        raise click.UsageError(f"--threshold is for two classes; {table.target.name} has {len(table.target.classes) or 'numbers'}")
    if options["by"] and not options["everywhere"]:
        raise click.UsageError("--by goes with --everywhere")
    if options["everywhere"] and not options["by"] and table.groups is None and table.order is None:
        raise click.UsageError("--everywhere needs parts: pass --by NAME (a category column), --groups or --order")
    if options["by"] and options["by"] not in (table.terms.groups, table.terms.order):
        table.check_known([options["by"]])
    if options["evaluate"] and share == 0:
        raise click.UsageError("--evaluate needs a holdout: remove --holdout 0")


def _evaluated(run: Run, options: dict[str, Any], show: Show) -> Evaluation:
    from chaff.cli.evaluation_tables import show_evaluation

    result = run.evaluate(workers=options["workers"], state=not options["no_state"])
    show_evaluation(show, result, options["threshold"])
    return result


def _afterwards(run: Run, options: dict[str, Any], show: Show) -> tuple[Everywhere | None, Protection | None]:
    """Whether it holds everywhere, where that is asked; what the kept set tells of what must not be used, where anything is protected."""
    from chaff.cli.evaluation_tables import show_everywhere, show_protection

    parts = run.holds_everywhere(options["by"], workers=options["workers"]) if options["everywhere"] and run.features else None
    interchangeable = run.protection(workers=options["workers"]) if run.table.terms.protected and run.features else None
    if parts is not None:
        show_everywhere(show, parts)
    if interchangeable is not None:
        show_protection(show, interchangeable)
    return parts, interchangeable


def _page_of(
    run: Run, result: Evaluation | None, parts: Everywhere | None, interchangeable: Protection | None, requested: bool
) -> dict[str, Any]:  # fmt: skip
    """The page, where it is asked for."""
    if not requested:
        return {}
    from chaff.report.writing import write_report

    return {"report.html": lambda part: write_report(run, part, evaluation=result, everywhere=parts, protection=interchangeable)}


def _files_of(result: Evaluation | None, threshold: float | None) -> dict[str, Any]:
    """What an evaluation leaves: a figure, and what was predicted of every held out row."""
    if result is None:
        return {}
    from chaff.files import harmless
    from chaff.plots.evaluation_figures import evaluated

    return {
        "evaluation.png": lambda part: evaluated(result, threshold=threshold).figure.savefig(part),
        "holdout_predictions.csv": lambda part: harmless(result.losses).to_csv(part),
    }


def _times(show: Show) -> None:
    """Where the time went."""
    from chaff.cli.tables import grid, title

    title(show, "Where the time went")
    grid(show, ["", "seconds", "share"], [list(row) for row in show.stopwatch.rows()], required=("", "seconds", "share"), names=0)


def _with_options(plan: Plan, options: dict[str, Any]) -> Plan:
    """The plan with what the options say of scores and stages on top."""
    from chaff.decide.plan import with_settings

    score = {k: options[k] for k in ("model", "metric", "folds", "repeats") if options[k] is not None}
    score |= {"rows": parse_rows(options["model_rows"])} if options["model_rows"] is not None else {}
    plan = with_settings(plan, _stage_settings(options))
    return dataclasses.replace(plan, score=dataclasses.replace(plan.score, **score))


def _stage_settings(options: dict[str, Any]) -> dict[str, dict[str, Any]]:
    out: dict[str, dict[str, Any]] = {}
    for option, stage in (
        ("pair_limit", "overlap"),
        ("vif_limit", "overlap"),
        ("margin", "search"),
        ("size", "search"),
        ("keep_share", "search"),
        ("total_cost", "search"),
    ):
        if options[option] is not None:
            out.setdefault(stage, {})[option] = options[option]
    for name, value in parse_limits(options["settings"], "--set").items():
        if "." not in name:
            raise click.UsageError(f"--set {name}: write STAGE.KEY=VALUE, for example screen.missing_share=0.8")
        stage, key = name.split(".", 1)
        out.setdefault(stage, {})[key] = value
    return out
