"""`chaff screen`: look at the columns of a file first."""

from __future__ import annotations

import shlex
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import file_ending, looking_options, numbers
from chaff.cli.output import leave_figures, leave_tables
from chaff.cli.stage_options import stage_options
from chaff.files import SAVED

MOST_DATES = 3

if TYPE_CHECKING:
    import pandas as pd

    from chaff.cli.console import Show
    from chaff.results.findings import Findings


@click.command(
    "screen",
    cls=Command,
    everyday=["--target", "--plan", "--features", "--ids", "--ignore", "--groups", "--order", "--by", "--all", "--out", "--figures"],
    examples=["chaff screen lots.csv --target loaf_volume --ignore grade --groups mill"],
)
@click.argument("data", type=click.Path())
@looking_options
@stage_options("screen.stage", "Screen", names={"groups": "find-groups"})
@click.option("--by", metavar="COLUMN", help="Sort the columns by this: missing_share, distinct, skew, single_r2, …")
@click.option("--try", "limits", metavar="A,B,…", help="With --by: how many features would be kept at these thresholds.")
@click.option("--out", metavar="FILE", help="Save the findings: .json, .csv or .parquet.")
@click.option("--decimals", type=click.IntRange(0), help="Digits after the point in a saved .csv or .parquet.")
def command(data: str, **options: Any) -> None:
    """Look at the columns of DATA: what they hold, which cannot help, look like an id, repeat another, or like a leak."""
    from chaff.cli.command_context import stand
    from chaff.cli.console import QUIET, Show
    from chaff.cli.tables import limits_grid
    from chaff.decide.one_stage import findings_of, judge
    from chaff.methods.screen.stage import Screen

    if options["limits"] and not options["by"]:
        raise click.UsageError("--try needs --by (the measure that the thresholds apply to)")
    file_ending(options["out"], SAVED, "--out")
    show = Show(options["form"])
    context = stand(data, options, show, needs_target=False)
    stage = context.stage(Screen)
    context.tell(show)
    show.watch("screen")
    keeps = [p for p in context.pins if p.verdict == "keep"]
    result = findings_of(
        judge(stage, context.table, pins=keeps, folds=5, seed=options["seed"], workers=options["workers"], watch=show.watch)
    )
    show.stop()
    if not context.table.has_target:
        show.say(result.notes[0], QUIET)
    _tables(show, result, options["everything"], options["by"], data)
    if options["limits"]:
        limits_grid(show, result.try_limits(numbers(options["limits"], "--try"), options["by"]), options["by"], len(result.frame))
    names = []
    if options["out"]:
        result.save(options["out"], options["by"], options["decimals"])
        names.append(options["out"])
    names += leave_tables(options, lambda: {"screen": result}, result.kept)
    names += leave_figures(options, lambda: _figures(context.table, result))
    following = context.following(data, options, "relevance" if context.table.has_target else "overlap", *_advised(result.frame))
    show.finish("screen", {"table": context, "result": result}, names, following)


def _advised(frame: pd.DataFrame) -> list[str]:
    """What the next command does well to have: numbers from the first dates; codes and kinds are the reader's to decide."""
    from chaff.methods.screen.advice import as_options

    dates = [(str(f), r) for f, r in frame.iterrows() if r["advice_kind"] == "date"][:MOST_DATES]
    return [word for f, r in dates for word in shlex.split(as_options(f, r).partition("   ")[0])]


def _tables(show: Show, result: Findings, everything: bool, by: str | None, data: str) -> None:
    """What was set aside and why, what the other columns hold, the rows, and advice."""
    from chaff.cli.tables import grid, rest, title, verdict_rows

    frame = result.frame
    stays, reviewed = int(frame["stays"].sum()), int((frame["verdict"] == "review").sum())
    title(show, f"{len(frame)} features → {stays}: {int((frame['verdict'] == 'drop').sum())} dropped, {reviewed} to review")
    rows, aside = verdict_rows(result, everything)
    if rows:
        show.say()
        grid(show, ["verdict", "feature", "observed value", "threshold", "reason"], rows, required=("verdict", "reason"), names=2)
        rest(show, len(rows), aside)
    _facts(show, result, everything, by)
    _rows(show, result.more["rows"])
    for options in result.notes[1:]:
        show.say(f" {options}")
    _advice(show, frame, everything)


def _facts(show: Show, result: Findings, everything: bool, by: str | None) -> None:
    from chaff.cli.tables import HEAD, grid, rest
    from chaff.results.digits import cell, figure, share, two

    frame = result.ranked(by) if by else result.frame
    kept = frame if everything else frame[frame["verdict"] == "keep"]
    subset = kept if everything else kept.head(HEAD)
    shown: dict[str, Callable[[Any], str]] = {
        "kind": lambda r: r["kind"] + (f", {r['unit']}" if r["unit"] else ""),
        "rows": lambda r: figure(r["rows"]),
        "missing": lambda r: share(r["missing_share"]),
        "distinct": lambda r: figure(r["distinct"]),
        "single-feature CV R²": lambda r: two(r["single_r2"]),
        "min": lambda r: figure(r["low"]),
        "max": lambda r: figure(r["high"]),
        "most frequent": lambda r: str(r["top_value"])[:18],
        "frequency of it": lambda r: share(r["top_share"]),
        "SD": lambda r: figure(r["spread"]),
        "skew": lambda r: two(r["skew"]),
        "outliers": lambda r: share(r["outlying_share"]),
    }
    known = {"missing_share", "distinct", "skew", "single_r2", "rows", "top_share", "spread", "outlying_share"}
    if by and by not in known:
        shown = {by.replace("_", " "): lambda r: cell(by, r[by]), **shown}
    requested = {
        "missing_share": "missing",
        "single_r2": "single-feature CV R²",
        "top_share": "frequency of it",
        "spread": "SD",
        "outlying_share": "outliers",
    }
    if frame["single_r2"].isna().all():  # no target
        del shown["single-feature CV R²"]
    rows = [[str(f), *(words(r) for words in shown.values())] for f, r in subset.iterrows()]
    show.say()
    grid(show, ["feature", *shown], rows, required=("feature", requested.get(by or "", (by or "kind").replace("_", " "))))
    rest(show, len(subset), len(kept))


def _rows(show: Show, checks: pd.DataFrame) -> None:
    from chaff.cli.tables import grid, title
    from chaff.results.digits import figure

    title(show, "Rows")
    grid(show, ["check", "rows", "result"], [[str(c), figure(r["count"]), r["words"]] for c, r in checks.iterrows()])


def _advice(show: Show, frame: pd.DataFrame, everything: bool) -> None:
    """Ready to paste: the command line's own options."""
    from chaff.cli.tables import HEAD, grid, rest, title
    from chaff.methods.screen.advice import folded_options

    options = frame[frame["advice"] != ""]
    if options.empty:
        return
    title(show, "Advice, as options to paste")
    rows = folded_options([(str(f), r) for f, r in options.iterrows()])
    subset = rows if everything else rows[:HEAD]
    grid(show, ["feature", "advice"], subset)
    rest(show, len(subset), len(rows))


def _figures(table: Any, result: Any) -> dict[str, Callable[[], Any]]:
    from chaff.plots import histograms, missing_map

    drawn: dict[str, Callable[[], Any]] = {"histograms": lambda: histograms(table, result)}
    return drawn | ({"missing": lambda: missing_map(table, result)} if (result.frame["missing_share"] > 0).any() else {})
