"""`chaff screen`: look at the columns of a file first."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.options import (
    all_option,
    file_ending,
    limits_said,
    numbers,
    pin_options,
    plan_option,
    rows_options,
    table_options,
    work_options,
)
from chaff.files import SAVED

if TYPE_CHECKING:
    import pandas as pd

    from chaff.cli.console import Show
    from chaff.results.findings import Findings


@click.command("screen")
@click.argument("data", type=click.Path())
@table_options
@plan_option
@pin_options
@rows_options
@click.option(
    "--set",
    "settings",
    multiple=True,
    metavar="LIMIT=VALUE",
    help="A limit of the screen, such as missing_share=0.8; false switches it off. Repeatable.",
)
@click.option("--by", metavar="COLUMN", help="Sort the columns by this: missing_share, distinct, skew, single_r2, …")
@click.option("--try", "limits", metavar="A,B,…", help="With --by: how many columns would stay at these limits.")
@all_option
@click.option("--out", metavar="FILE", help="Save the findings: .json, .csv or .parquet.")
@click.option("--decimals", type=click.IntRange(0), help="Digits after the point in a saved .csv or .parquet.")
@click.option("--figures", metavar="FOLDER", help="Draw histograms.png and missing.png there.")
@work_options
def command(data: str, **said: Any) -> None:
    """Look at the columns of DATA: what they hold, which cannot help, look like an id, repeat another, or like a leak."""
    from chaff.cli.console import Show, tell_of_compiling
    from chaff.cli.grids import limits_grid
    from chaff.cli.ground import stand
    from chaff.decide.calls.judged import findings_of, judge
    from chaff.methods.screen.stage import Screen

    if said["limits"] and not said["by"]:
        raise click.UsageError("--try needs --by, which says what is held against the limits")
    file_ending(said["out"], SAVED, "--out")
    show = Show(said["form"])
    ground = stand(data, said, show)
    stage = ground.stage(Screen, **limits_said(said["settings"], "--set"))
    ground.tell(show)
    tell_of_compiling(show)
    show.watch("screen")
    keeps = [p for p in ground.pins if p.verdict == "keep"]
    found = findings_of(judge(stage, ground.table, pins=keeps, folds=5, seed=said["seed"], workers=said["workers"], watch=show.watch))
    show.stop()
    _tables(show, found, said["everything"], said["by"], data)
    if said["limits"]:
        limits_grid(show, found.try_limits(numbers(said["limits"], "--try"), said["by"]), said["by"], len(found.frame))
    names = []
    if said["out"]:
        found.save(said["out"], said["by"], said["decimals"])
        names.append(said["out"])
    if said["figures"]:
        names += _figures(ground.table, found, said["figures"])
    show.finish("screen", {"table": ground, "found": found}, names)


def _tables(show: Show, found: Findings, everything: bool, by: str | None, data: str) -> None:
    """What was set aside and why, what the other columns hold, the rows, and advice."""
    from chaff.cli.grids import grid, rest, title, verdict_rows

    frame = found.frame
    stays, looks = int(frame["stays"].sum()), int((frame["verdict"] == "look").sum())
    title(show, f"{len(frame)} columns → {stays}: {int((frame['verdict'] == 'drop').sum())} set aside, {looks} to look at")
    rows, aside = verdict_rows(found, everything)
    if rows:
        show.say()
        grid(show, ["verdict", "feature", "figure", "limit", "reason"], rows, asked=("verdict", "reason"), names=2)
        rest(show, len(rows), aside)
    _facts(show, found, everything, by)
    _rows(show, found.more["rows"])
    for said in found.notes[1:]:
        show.say(f" {said}")
    _advice(show, frame, everything)


def _facts(show: Show, found: Findings, everything: bool, by: str | None) -> None:
    from chaff.cli.grids import HEAD, grid, rest
    from chaff.results.digits import cell, figure, share, two

    frame = found.ranked(by) if by else found.frame
    kept = frame if everything else frame[frame["verdict"] == "keep"]
    some = kept if everything else kept.head(HEAD)
    shown: dict[str, Callable[[Any], str]] = {
        "kind": lambda r: r["kind"] + (f", {r['unit']}" if r["unit"] else ""),
        "rows": lambda r: figure(r["rows"]),
        "missing": lambda r: share(r["missing_share"]),
        "distinct": lambda r: figure(r["distinct"]),
        "R² alone": lambda r: two(r["single_r2"]),
        "lowest": lambda r: figure(r["low"]),
        "highest": lambda r: figure(r["high"]),
        "commonest": lambda r: str(r["top_value"])[:18],
        "its share": lambda r: share(r["top_share"]),
        "sd": lambda r: figure(r["spread"]),
        "skew": lambda r: two(r["skew"]),
        "outlying": lambda r: share(r["outlying_share"]),
    }
    known = {"missing_share", "distinct", "skew", "single_r2", "rows", "top_share", "spread", "outlying_share"}
    if by and by not in known:
        shown = {by.replace("_", " "): lambda r: cell(by, r[by]), **shown}
    asked = {"missing_share": "missing", "single_r2": "R² alone", "top_share": "its share", "spread": "sd", "outlying_share": "outlying"}
    rows = [[str(f), *(words(r) for words in shown.values())] for f, r in some.iterrows()]
    show.say()
    grid(show, ["feature", *shown], rows, asked=("feature", asked.get(by or "", (by or "kind").replace("_", " "))))
    rest(show, len(some), len(kept))


def _rows(show: Show, checks: pd.DataFrame) -> None:
    from chaff.cli.grids import grid, title
    from chaff.results.digits import figure

    title(show, "Rows")
    grid(show, ["check", "count", "says"], [[str(c), figure(r["count"]), r["words"]] for c, r in checks.iterrows()])


def _advice(show: Show, frame: pd.DataFrame, everything: bool) -> None:
    """Ready to paste: the command line's own options."""
    from chaff.cli.grids import HEAD, grid, rest, title
    from chaff.methods.screen.advice import folded_options

    said = frame[frame["advice"] != ""]
    if said.empty:
        return
    title(show, "Advice, as options to paste")
    rows = folded_options([(str(f), r) for f, r in said.iterrows()])
    some = rows if everything else rows[:HEAD]
    grid(show, ["feature", "advice"], some)
    rest(show, len(some), len(rows))


def _figures(table: Any, found: Any, folder: str) -> list[str]:
    from chaff.files import make_folder, write_with
    from chaff.plots import histograms, missing_map

    place = make_folder(folder)
    drawn = {"histograms.png": histograms(table, found)}
    if (found.frame["missing_share"] > 0).any():
        drawn["missing.png"] = missing_map(table, found).figure
    for name, figure in drawn.items():
        write_with(place / name, figure.savefig)
    return [str(place / name) for name in drawn]
