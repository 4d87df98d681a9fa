"""`chaff screen`: look at the columns of a file first."""

from __future__ import annotations

from typing import Any

import click

from chaff.cli.table_options import file_ending, numbers, open_said, pairs, pin_options, pins_said, table_options, toml_value


@click.command("screen")
@click.argument("data", type=click.Path())
@table_options
@pin_options
@click.option(
    "--set",
    "settings",
    multiple=True,
    metavar="LIMIT=VALUE",
    help="A limit of the screen, such as missing_share=0.8; false switches it off. Repeatable.",
)
@click.option("--by", metavar="COLUMN", help="Sort the columns by this: missing_share, distinct, skew, single_r2, …")
@click.option("--try", "limits", metavar="A,B,…", help="With --by: how many columns would stay at these limits.")
@click.option("--all", "everything", is_flag=True, help="List every column, not only the head.")
@click.option("--out", metavar="FILE", help="Save the findings: .json, .csv or .parquet.")
@click.option("--decimals", type=click.IntRange(0), help="Digits after the point in a saved .csv or .parquet.")
@click.option("--figures", metavar="FOLDER", help="Draw histograms.png and missing.png there.")
@click.option("--seed", default=0, show_default=True, help="Fixes every random draw.")
@click.option("--workers", type=click.IntRange(1), help="Threads; every core when left out.")
def command(data: str, **said: Any) -> None:
    """Look at the columns of DATA: what they hold, which cannot help, look like an id, repeat another, or like a leak."""
    from chaff.cli.console import Show, tell_of_compiling
    from chaff.cli.tables import limits_table, screen_tables
    from chaff.decide.calls import screen

    if said["limits"] and not said["by"]:
        raise click.UsageError("--try needs --by, which says what is held against the limits")
    if said["out"]:
        file_ending(said["out"], (".json", ".csv", ".parquet"), "--out")
    limits = {k: _limit(v) for k, v in pairs(said["settings"], "--set").items()}
    table = open_said(data, said)
    show = Show()
    show.table(table)
    tell_of_compiling(show)
    show.watch("screen", "started")
    try:
        found = screen(table, pins=pins_said(said), seed=said["seed"], workers=said["workers"], **limits)
    finally:
        show.stop()
    screen_tables(show, found, said["everything"], said["by"])
    if said["limits"]:
        limits_table(show, found.try_limits(numbers(said["limits"], "--try"), said["by"]), said["by"], len(found.frame))
    names = []
    if said["out"]:
        found.save(said["out"], said["by"], said["decimals"])
        names.append(said["out"])
    if said["figures"]:
        names += _figures(table, found, said["figures"])
    show.say()
    show.say(f" {'  '.join([*names, ''])}({show.seconds()})")


def _limit(text: str) -> Any:
    value = toml_value(text)
    return None if value is False and text == "false" else value


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
