"""`chaff relevance`: score every feature of a file against its target."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from chaff.cli.table_options import file_ending, numbers, open_said, said_options, table_options

PANELS = 12
CUTS = ("top", "share", "above", "below", "times_mean")
SETTINGS = ("adjust", "bins", "bin_kind", "pool_below", "neighbours", "shuffles")


@click.command("relevance")
@click.argument("data", type=click.Path())
@table_options
@click.option(
    "--statistics", default="fitting", show_default=True, metavar="NAMES", help="leading, fitting, all, or names separated by commas."
)
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
@click.option("--all", "everything", is_flag=True, help="List every feature, not only the head.")
@click.option("--out", metavar="FILE", help="Save the findings: .json (can be read again), .csv or .parquet.")
@click.option("--decimals", type=click.IntRange(0), help="Digits after the point in a saved .csv or .parquet.")
@click.option("--figure", metavar="FILE", help="Draw the leading features as bars: .png, .svg or .pdf.")
@click.option("--panels", metavar="FOLDER", help="Draw each of the 12 leading features against the target there.")
@click.option("--seed", default=0, show_default=True, help="Fixes every random draw.")
@click.option("--workers", type=click.IntRange(1), help="Threads; every core when left out.")
def command(data: str, **said: Any) -> None:
    """Score every feature of DATA by the statistics that fit its kind and the target's.

    DATA is a table, or findings saved before as .json: those are ranked, cut and tried again without computing.
    """
    from chaff.cli.console import Show
    from chaff.cli.tables import limits_table, pairs_table, relevance_table, scaled_table

    _check_files(said)
    cut = _cut(said)
    show = Show()
    table = None
    if Path(data).suffix.lower() == ".json":
        found = _again(data, cut, said)
    else:
        found, table = _measured(data, cut, said, show)
    by = said["by"] or found.lead
    relevance_table(show, found, by, said["everything"])
    if said["scaled"]:
        scaled_table(show, found, by, said["everything"])
    for note in found.notes[1:]:
        show.say(f" look: {note}", "#7A4E8A")
    if said["limits"]:
        limits_table(show, found.try_limits(numbers(said["limits"], "--try"), by), by, len(found.frame))
    if said["pairs"]:
        if table is None:
            raise click.UsageError("--pairs needs the table itself, not saved findings")
        from chaff.methods.relevance.pairs import interactions

        show.watch("pairs", "started")
        try:
            pairs = interactions(_without_barred(table, show), seed=said["seed"], workers=said["workers"])
        finally:
            show.stop()
        pairs_table(show, pairs, said["everything"])
        show.say(f"   {pairs.notes[0]}", "color(243)")
    names = _leave(found, by, said)
    if said["panels"]:
        names.append(_panels(table, found, by, said["panels"]))
    show.say()
    show.say(f" {'  '.join([*names, ''])}({show.seconds()})")


def _measured(data: str, cut: dict[str, float] | None, said: dict[str, Any], show: Any) -> tuple[Any, Any]:
    if said["triage"]:
        from chaff.decide.triage import triage

        options = said_options(said)
        target = options.pop("target", None)
        if not target:
            raise click.UsageError("which column is to be predicted? Pass --target NAME")
        if cut or said["pairs"] or said["target_above"] is not None:
            raise click.UsageError("--triage keeps the best N by itself: leave out the other cuts, --pairs and --target-above")
        watch = lambda done, of: show.watch(f"{done:,} of {of:,} columns", "done")  # noqa: E731
        try:
            return triage(
                data,
                target,
                top=said["triage"],
                by=said["by"] or "effect_size",
                seed=said["seed"],
                workers=said["workers"],
                watch=watch,
                **options,
            ), None
        finally:
            show.stop()
    from chaff.cli.console import tell_of_compiling
    from chaff.decide.calls import relevance

    table = open_said(data, said)
    show.table(table)
    tell_of_compiling(show)
    settings = {k: said[k] for k in (*SETTINGS, "missing_level") if said[k] is not None}
    asked = said["statistics"]
    names = asked if asked in ("leading", "fitting", "all") else [n.strip() for n in asked.split(",")]
    show.watch("relevance", "started")
    try:
        return relevance(table, names, by=said["by"], cut=cut, seed=said["seed"], workers=said["workers"], **settings), table
    finally:
        show.stop()


def _again(data: str, cut: dict[str, float] | None, said: dict[str, Any]) -> Any:
    """Saved findings under another cut."""
    import dataclasses

    from chaff.results.findings import read_findings

    found = read_findings(data)
    if said["by"]:
        found = dataclasses.replace(found, lead=said["by"])
    if cut:
        stays = set(found.stays(cut))
        frame = found.frame.assign(verdict=["keep" if f in stays else "drop" for f in found.frame.index])
        found = dataclasses.replace(found, frame=frame)
    return found


def _without_barred(table: Any, show: Any) -> Any:
    """Leaks and ids spoil a pair screen: what the quality screen bars or drops takes no part in it."""
    from chaff.decide.calls import screen

    frame = screen(table).frame
    out = [str(f) for f in frame.index[~frame["stays"]]]
    if out:
        words = ", ".join(out[:6]) + (f" and {len(out) - 6} more" if len(out) > 6 else "")
        show.stop()
        show.say(f" pairs leave out what the screen sets aside: {words}", "color(243)")
    return table.with_features([f for f in table.features if f not in out])


def _cut(said: dict[str, Any]) -> dict[str, float] | None:
    given = {k: said[k] for k in CUTS if said[k] is not None}
    if len(given) > 1:
        raise click.UsageError(f"one cut at a time, not {' and '.join('--' + k.replace('_', '-') for k in given)}")
    return given or None


def _panels(table: Any, found: Any, by: str, folder: str) -> str:
    if table is None:
        raise click.UsageError("--panels needs the table itself, not saved findings or a triage")
    from chaff.files import make_folder, write_with
    from chaff.plots import feature_target

    place = make_folder(folder)
    for name in [str(f) for f in found.ranked(by).index[:PANELS]]:
        file = "".join(c if c.isalnum() or c in "-_." else "_" for c in name)
        write_with(place / f"{file}.png", feature_target(table, name).figure.savefig)
    return f"{folder}/"


def _check_files(said: dict[str, Any]) -> None:
    if said["out"]:
        file_ending(said["out"], (".json", ".csv", ".parquet"), "--out")
    if said["figure"]:
        file_ending(said["figure"], (".png", ".svg", ".pdf"), "--figure")


def _leave(found: Any, by: str, said: dict[str, Any]) -> list[str]:
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
