"""`chaff changes`: what differs between two runs."""

from __future__ import annotations

from pathlib import Path

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import all_option, force_option, form_option


@click.command("changes", cls=Command, examples=["chaff changes january/selection.json july/selection.json"])
@click.argument("first", type=click.Path(), metavar="RUN_A")
@click.argument("second", type=click.Path(), metavar="RUN_B")
@all_option
@force_option
@form_option
def command(first: str, second: str, everything: bool, form: str) -> None:
    """What differs between RUN_A and RUN_B (a selection.json, or the folder that holds it): settings, sets, verdicts, scores, and why."""
    from chaff.cli.console import QUIET, Show
    from chaff.cli.tables import HEAD, grid, notes, rest, title
    from chaff.decide.changes import changes
    from chaff.decide.selection import read_selection

    show = Show(form)
    result = changes(*(read_selection(_file(options)) for options in (first, second)))
    show.say(f" {result.headline}", "bold")
    for word, names in (("added", result.comes), ("removed", result.goes)):
        if names:
            show.say(f"   {word}: {', '.join(names)}")
    if len(result.settings):
        title(show, "Settings")
        grid(show, ["setting", "first", "second"], [[str(n), r["first"], r["second"]] for n, r in result.settings.iterrows()], names=0)
    if len(result.columns):
        title(show, "Columns")
        subset = result.columns if everything else result.columns.head(HEAD)
        rows = [[str(n), r["first"], r["second"], _both(r["why_first"], r["why_second"])] for n, r in subset.iterrows()]
        grid(show, ["feature", "first", "second", "reason"], rows, required=("first", "second", "reason"), names=1)
        rest(show, len(subset), len(result.columns))
    if len(result.scores):
        title(show, "Scores")
        grid(show, ["score", "first", "second"], [[str(n), r["first"], r["second"]] for n, r in result.scores.iterrows()], names=0)
    if not result.same:
        show.say()
    notes(show, result.notes)
    if form == "json":
        show.finish("changes", result.as_plain())
    else:
        show.say(f" {first}  {second}", QUIET)


def _file(options: str) -> Path:
    place = Path(options)
    return place / "selection.json" if place.is_dir() else place


def _both(first: str, second: str) -> str:
    return first if first == second else " → ".join(w or "nothing said" for w in (first, second))
