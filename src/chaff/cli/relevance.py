"""`chaff relevance`: score every feature of a file against its target."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.options import (
    all_option,
    columns_option,
    file_ending,
    numbers,
    pin_options,
    plan_option,
    rows_options,
    table_options,
    work_options,
)
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.cli.ground import Ground
    from chaff.results.findings import Findings
    from chaff.table.table import Table

PANELS = 12
CUTS = ("top", "share", "above", "below", "times_mean")
SETTINGS = ("adjust", "bins", "bin_kind", "pool_below", "neighbours", "shuffles", "missing_level")


@click.command("relevance")
@click.argument("data", type=click.Path())
@table_options
@plan_option
@pin_options
@rows_options
@columns_option
@click.option("--statistics", metavar="NAMES", help="tests, leading, fitting, all, or names separated by commas (fitting).")
@click.option("--by", metavar="COLUMN", help="Rank and cut by this column (effect_size).")
@click.option("--top", type=click.IntRange(1), help="Cut: the best so many.")
@click.option("--share", type=click.FloatRange(0, 1, min_open=True), help="Cut: the best share of the features, rounded up.")
@click.option("--above", type=float, help="Cut: above this value.")
@click.option("--below", type=float, help="Cut: below this value, for p and q.")
@click.option("--times-mean", type=float, help="Cut: so many times the mean or more.")
@click.option("--try", "limits", metavar="A,B,…", help="How many features would stay at these limits, and which.")
@click.option(
    "--adjust",
    type=click.Choice(["benjamini_hochberg", "benjamini_yekutieli", "holm", "bonferroni"]),
    help="How p-values are adjusted (benjamini_hochberg).",
)
@click.option("--bins", type=int, help="Bins of a number for the information measures (10).")
@click.option("--bin-kind", type=click.Choice(["equal counts", "equal width", "supervised"]), help="Kind of bins (equal counts).")
@click.option("--missing-level/--no-missing-level", default=None, help="Whether missing is a level of its own (categories only).")
@click.option("--pool-below", type=float, help="Pool levels with a smaller expected count before chi-square (0: only warn).")
@click.option("--neighbours", type=click.IntRange(1), help="Neighbours for mutual information without bins (3).")
@click.option("--shuffles", type=click.IntRange(0), help="Shuffled targets for a permutation p where theory gives none (0).")
@click.option("--pairs", is_flag=True, help="Also screen all pairs: what two features tell together beyond the sum of each.")
@click.option("--triage", type=click.IntRange(1), metavar="N", help="A very wide table: keep the best N columns, read block by block.")
@click.option("--scaled", is_flag=True, help="Also show every measure rescaled from 0 to 1, side by side.")
@all_option
@click.option("--out", metavar="FILE", help="Save the findings: .json (can be read again), .csv or .parquet.")
@click.option("--decimals", type=click.IntRange(0), help="Digits after the point in a saved .csv or .parquet.")
@click.option("--figure", metavar="FILE", help="Draw the leading features as bars: .png, .svg or .pdf.")
@click.option("--panels", "panels_folder", metavar="FOLDER", help="Draw each of the 12 leading features against the target there.")
@work_options
def command(data: str, **said: Any) -> None:
    """Score every feature of DATA by the statistics that fit its kind and the target's.

    DATA is a table, or findings saved before as .json: those are ranked, cut and tried again without computing.
    """
    from chaff.cli.console import Show
    from chaff.cli.grids import limits_grid

    file_ending(said["out"], SAVED, "--out")
    file_ending(said["figure"], (".png", ".svg", ".pdf"), "--figure")
    cut = _cut(said)
    show = Show(said["form"])
    ground: Ground | None = None
    if Path(data).suffix.lower() == ".json":
        found = _again(data, cut, said)
    elif said["triage"]:
        found = _triage(data, cut, said, show)
    else:
        found, ground = _measured(data, cut, said, show)
    by = said["by"] or found.lead
    _table(show, found, by, said["everything"])
    if said["scaled"]:
        _scaled(show, found, by, said["everything"])
    for note in found.notes[1:]:
        show.say(f" look: {note}", "#7A4E8A")
    if said["limits"]:
        limits_grid(show, found.try_limits(numbers(said["limits"], "--try"), by), by, len(found.frame))
    pairs = _pairs(show, _needed(ground, "--pairs"), said) if said["pairs"] else None
    names = _leave(found, by, said)
    if said["panels_folder"]:
        names.append(_panels(_needed(ground, "--panels"), found, by, said["panels_folder"]))
    show.finish("relevance", {"table": ground, "found": found, "pairs": pairs}, names)


def _needed(ground: Ground | None, option: str) -> Table:
    if ground is None:
        raise click.UsageError(f"{option} needs the table itself, not saved findings or a triage")
    return ground.table


def _measured(data: str, cut: dict[str, float] | None, said: dict[str, Any], show: Show) -> tuple[Findings, Ground]:
    from chaff.cli.console import tell_of_compiling
    from chaff.cli.ground import stand
    from chaff.decide.calls.judged import Judged, findings_of, judge
    from chaff.methods.relevance.catalogue import GROUPS
    from chaff.methods.relevance.stage import Relevance

    ground = stand(data, said, show, before=("relevance",))
    settings = {k: said[k] for k in SETTINGS if said[k] is not None}
    asked = said["statistics"]
    if asked is not None:
        settings["statistics"] = asked if asked in GROUPS else [n.strip() for n in asked.split(",")]
    elif ground.plan is None:
        settings["statistics"] = "fitting"
    stage = ground.stage(Relevance, by=said["by"], cut=cut, **settings)
    if said["by"]:
        stage = stage.able_to_rank(ground.table)
    ground.tell(show)
    tell_of_compiling(show)
    show.watch("relevance")
    pins = [p for p in ground.pins if p.feature in ground.table.features]
    judged: Judged = judge(stage, ground.table, pins=pins, seed=said["seed"], workers=said["workers"], watch=show.watch)
    show.stop()
    return (findings_of(judged) if stage.cut is not None else judged.result), ground  # type: ignore[return-value]


def _triage(data: str, cut: dict[str, float] | None, said: dict[str, Any], show: Show) -> Findings:
    from chaff.cli.ground import read_said_plan
    from chaff.cli.options import terms_said
    from chaff.decide.triage import triage

    plan = read_said_plan(said)
    options = {**(plan.table.as_mapping() if plan else {}), **terms_said(said)}
    target = options.pop("target", None)
    if not target:
        raise click.UsageError("which column is to be predicted? Pass --target NAME")
    if cut or said["pairs"] or said["target_above"] is not None:
        raise click.UsageError("--triage keeps the best N by itself: leave out the other cuts, --pairs and --target-above")
    try:
        return triage(
            data,
            target,
            top=said["triage"],
            by=said["by"] or "effect_size",
            seed=said["seed"],
            workers=said["workers"],
            watch=lambda done, of: show.watch("columns", done, of),
            **options,
        )
    finally:
        show.stop()


def _again(data: str, cut: dict[str, float] | None, said: dict[str, Any]) -> Findings:
    """Saved findings under another cut."""
    from chaff.results.findings import read_findings

    found = read_findings(data)
    if said["by"]:
        found = dataclasses.replace(found, lead=said["by"])
    if cut:
        stays = set(found.stays(cut))
        frame = found.frame.assign(verdict=["keep" if f in stays else "drop" for f in found.frame.index])
        found = dataclasses.replace(found, frame=frame)
    return found


def _cut(said: dict[str, Any]) -> dict[str, float] | None:
    given = {k: said[k] for k in CUTS if said[k] is not None}
    if len(given) > 1:
        raise click.UsageError(f"one cut at a time, not {' and '.join('--' + k.replace('_', '-') for k in given)}")
    return given or None


def _table(show: Show, found: Findings, by: str, everything: bool) -> None:
    """The leading features with the statistics that fit into the window; what was asked for is always there."""
    from chaff.cli.grids import HEAD, grid, rest, with_interval, word
    from chaff.results.shown import Cell

    frame = found.ranked(by)
    some = frame if everything else frame.head(HEAD)
    columns = _columns(found, by)
    verdicts = "verdict" in frame.columns
    rows: list[list[Cell]] = []
    for place, (f, r) in enumerate(some.iterrows(), 1):
        rows.append([str(place), str(f), *([word(r["verdict"])] if verdicts else []), *[with_interval(c, r) for c in columns]])
    headers = ["", "feature", *(["verdict"] if verdicts else []), *[c.replace("_", " ") for c in columns]]
    show.say()
    grid(show, headers, rows, asked=("", "feature", "verdict", by.replace("_", " ")), names=2)
    rest(show, len(some), len(frame))


def _columns(found: Findings, by: str) -> list[str]:
    """What was asked for first, then what leads, then every other measure that has a value at all."""
    frame = found.frame
    first = ["kind", "rows", "statistic", "effect_size", "p", "q"]
    ranking = [c for c in found.better if not c.endswith(("_p", "_q")) and c not in first]
    own = [] if by in first else [by, f"{by}_p", f"{by}_family_p", f"{by}_q"]
    order = dict.fromkeys([*first[:4], *own, *first[4:], *ranking])
    return [c for c in order if c in frame.columns and (frame[c].notna() & (frame[c].astype(str) != "")).any()]


def _scaled(show: Show, found: Findings, by: str, everything: bool) -> None:
    """Every measure from 0 (the worst feature) to 1 (the best), side by side."""
    from chaff.cli.grids import HEAD, grid, rest, title

    scaled = found.scaled().loc[found.ranked(by).index].dropna(axis=1, how="all")
    some = scaled if everything else scaled.head(HEAD)
    title(show, "From 0, the worst feature, to 1, the best")
    rows = [[str(f), *["" if r[c] != r[c] else f"{r[c]:.2f}" for c in scaled.columns]] for f, r in some.iterrows()]
    grid(show, ["feature", *[str(c).replace("_", " ") for c in scaled.columns]], rows, asked=("feature", by.replace("_", " ")))
    rest(show, len(some), len(scaled))


def _pairs(show: Show, table: Table, said: dict[str, Any]) -> Findings:
    from chaff.cli.grids import HEAD, grid, notes, rest, title, word
    from chaff.methods.relevance.pairs import interactions
    from chaff.results.digits import cell, figure, share
    from chaff.results.shown import Cell

    show.watch("pairs")
    try:
        found = interactions(table, seed=said["seed"], workers=said["workers"], watch=show.watch)
    finally:
        show.stop()
    pairs = found.more["pairs"]
    over = pairs[pairs["beyond_chance"]]
    title(show, f"Pairs that tell more together than each alone: {len(over)} beyond chance")
    some = pairs if said["everything"] else pairs.head(max(min(len(over), HEAD), 5))
    rows: list[list[Cell]] = [
        [
            r["first"],
            r["second"],
            word("look") if r["beyond_chance"] else "within chance",
            share(r["share"]),
            figure(r["f"]),
            cell("f_p", r["f_p"]),
            figure(r["score"]),
        ]
        for _, r in some.iterrows()
    ]
    grid(show, ["first", "second", "found", "share of the target", "F", "p", "score"], rows, names=2)
    rest(show, len(some), len(pairs))
    notes(show, found.notes)
    return found


def _panels(table: Table, found: Findings, by: str, folder: str) -> str:
    from chaff.files import make_folder, write_with
    from chaff.plots import feature_target

    place = make_folder(folder)
    for name in [str(f) for f in found.ranked(by).index[:PANELS]]:
        file = "".join(c if c.isalnum() or c in "-_." else "_" for c in name)
        write_with(place / f"{file}.png", feature_target(table, name).figure.savefig)
    return f"{folder}/"


def _leave(found: Findings, by: str, said: dict[str, Any]) -> list[str]:
    names = []
    if said["out"]:
        found.save(said["out"], by, said["decimals"])
        names.append(said["out"])
    if said["figure"]:
        from chaff.files import write_with
        from chaff.plots import relevance_bars

        figure = relevance_bars(found, by)
        write_with(said["figure"], lambda part: figure.savefig(part))
        names.append(said["figure"])
    return names
