"""`chaff select`: a plan on a user's own file.

The final model on held out rows, in a terminal.
"""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.console import Show
from chaff.cli.help_pages import Command
from chaff.cli.options import (
    MODELS,
    STRATEGIES,
    parse_choice,
    parse_holdout,
    parse_limits,
    parse_rows,
    pin_options,
    plan_option,
    rows_option,
    table_options,
    work_options,
)  # fmt: skip
from chaff.cli.stage_options import given_settings, stage_options
from chaff.cli.tables import HEAD, grid, notes, rest, title
from chaff.metrics import METRICS
from chaff.results.digits import count, figure, p_value, with_error
from chaff.results.shown import Cell, Styled

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.decide.plan import Plan
    from chaff.decide.run import Run
    from chaff.methods.evaluation.evaluation import Evaluation
    from chaff.methods.evaluation.everywhere import Everywhere
    from chaff.methods.evaluation.protection import Protection


WORST = 5
NARROW = 100


def show_evaluation(show: Show, result: Evaluation, threshold: float | None = None) -> None:
    """Metrics side by side, the class table or how far off, and the worst rows."""
    title(show, f"The final model, {result.headline}")
    text = result.metric_table()
    if show.width < NARROW:  # room for the difference, which is what a reader is after
        text["full"] = [figure(result.frame.loc[m.name, "full"]) for m in result.metrics]
    grid(
        show,
        ["metric", *text.columns],
        [[str(m), *map(str, r)] for m, r in text.iterrows()],
        required=("metric", *text.columns[:3]),
        names=0,
    )
    if result.classes:
        _classes(show, result, threshold)
    notes(show, result.notes)
    worst = result.worst(WORST)
    title(show, "Rows with the largest loss of the kept set")
    names = ["row", *[c for c in worst.columns if c != "loss"], "loss"]
    rows: list[list[Cell]] = [[str(row), *(figure(r[c]) for c in names[1:])] for row, r in worst.iterrows()]
    grid(show, [n.replace("_", " ") for n in names], rows, required=("row", "true", "predicted kept"), names=0)


def _classes(show: Show, result: Evaluation, threshold: float | None) -> None:
    cut = f", positive from a probability of {threshold:g}" if threshold is not None else ""
    title(show, f"Confusion matrix of the kept set (rows: actual, columns: predicted){cut}")
    counts, shares = result.confusion(threshold=threshold), result.confusion(threshold=threshold, shares=True)
    by = result.by_class(threshold=threshold)
    rows: list[list[Cell]] = []
    for c in result.classes:
        cells = [f"{count(counts.loc[c, d])} ({shares.loc[c, d]:.0%})" for d in result.classes]
        rows.append([c, *cells, figure(by.loc[c, "recall"]), figure(by.loc[c, "precision"])])
    grid(show, ["actual", *(f"predicted {c}" for c in result.classes), "recall", "precision"], rows, required=("actual",), names=0)
    if len(result.classes) == 2:
        several = result.thresholds()
        rows = [[f"{t:g}", *(figure(r[c]) for c in several.columns)] for t, r in several.iterrows()]
        grid(show, ["threshold", *(str(c).replace("_", " ") for c in several.columns)], rows, required=("threshold",), names=0)


def show_everywhere(show: Show, result: Everywhere) -> None:
    """Which relations hold in every part, and where the kept set falls behind."""
    title(show, result.headline)
    frame = result.features.head(HEAD)
    rows: list[list[Cell]] = []
    for f, r in frame.iterrows():
        word = Styled("differs", "review") if r["differs"] else Styled("consistent", "keep") if r["p"] == r["p"] else Styled("not tested")
        reach = [f"{r['lowest']:+.2f} ({r['lowest_in']})", f"{r['highest']:+.2f} ({r['highest_in']})"]
        rows.append([str(f), word, f"{r['overall']:+.2f}", *reach, f"{r['same_way']:.0%}", p_value(r["q"])])
    grid(
        show,
        ["feature", "result", "slope", "lowest", "highest", "same sign", "Holm p"],
        rows,
        required=("result", "slope", "Holm p"),
        names=1,
    )
    rest(show, len(frame), len(result.features))
    r2 = result.metric == "r2"  # is itself the share of the baseline loss that is saved
    label, saved_share = METRICS[result.metric].label, "reduction of baseline loss ± SE"
    worst = result.parts.head(WORST)
    text: list[list[Cell]] = [
        [
            str(p),
            f"{int(r['rows']):,}",
            *([] if r2 else [figure(r["score"])]),
            with_error(r["gain"], r["gain_se"]),
            Styled("worse" if r["behind"] else "", "review"),
        ]
        for p, r in worst.iterrows()
    ]
    shown = f"{label} ± SE" if r2 else saved_share
    grid(show, [result.by, "rows", *([] if r2 else [label]), shown, ""], text, required=(result.by, shown), names=0)
    rest(show, len(worst), len(result.parts), "the page and --format json have them")
    saved = (f"does the score differ between the parts? p = {p_value(result.score_p)}",) if result.score_p == result.score_p else ()
    notes(show, (*saved, *result.notes))


def show_protection(show: Show, result: Protection) -> None:
    """What the kept columns tell of what must not be used."""
    from chaff.cli.console import KEEP, REVIEW

    show.say()
    show.say(f" {result.headline}", f"bold {REVIEW if result.telling else KEEP}")
    for words in result.words:
        show.say(f"   {words}")
    notes(show, result.notes)


@click.command(
    "select",
    cls=Command,
    everyday=["--target", "--plan", "--groups", "--order", "--model", "--metric", "--size", "--holdout", "--evaluate", "--out", "--report"],
    examples=[
        "chaff select lots.csv --target loaf_volume --ignore grade --groups mill",
        "chaff select lots.csv --plan mill.toml --out chosen --report",
    ],
)
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
@click.option("--strategy", metavar="NAME", help=f"How sets are searched: {STRATEGIES}. Default: what suits the model.")
@stage_options("search.stage", "Search")
@stage_options("overlap.stage", "Overlap", only=("pair_limit", "vif_limit"))
@click.option("--set", "settings", multiple=True, metavar="STAGE.KEY=VALUE", help="Any other setting of a stage. Repeatable.")
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
    from chaff.cli.select import show_evaluation

    result = run.evaluate(workers=options["workers"], state=not options["no_state"])
    show_evaluation(show, result, options["threshold"])
    return result


def _afterwards(run: Run, options: dict[str, Any], show: Show) -> tuple[Everywhere | None, Protection | None]:
    """Whether it holds everywhere, where that is asked; what the kept set tells of what must not be used, where anything is protected."""
    from chaff.cli.select import show_everywhere, show_protection

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
    given = given_settings(options) | ({"strategy": parse_choice(options["strategy"], "--strategy")} if options["strategy"] else {})
    for stage, keys in (("overlap", ("pair_limit", "vif_limit")), ("search", tuple(given))):
        out |= {stage: own} if (own := {k: given.pop(k) for k in keys if k in given}) else {}
    for name, value in parse_limits(options["settings"], "--set").items():
        if "." not in name:
            raise click.UsageError(f"--set {name}: write STAGE.KEY=VALUE, for example screen.missing_share=0.8")
        stage, key = name.split(".", 1)
        out.setdefault(stage, {})[key] = value
    return out
