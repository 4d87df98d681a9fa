"""`chaff apply`: the same columns of another file."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import work_options

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.decide.drift import Drifts


@click.command("apply", cls=Command, examples=["chaff apply chaff-out/selection.json new.csv -o new-reduced.csv"])
@click.argument("selection", type=click.Path())
@click.argument("data", type=click.Path())
@click.option("-o", "--out", required=True, type=click.Path(dir_okay=False), help="Output, .csv or .parquet by its ending.")
@click.option(
    "--strict", is_flag=True,
    help="Refuse rows that differ from those of the selection: new levels, drifted columns.",
)  # fmt: skip
@work_options
def command(selection: str, data: str, out: str, strict: bool, seed: int, workers: int | None, form: str) -> None:
    """Keep the columns of SELECTION (a selection.json) in the file DATA, of any size, and say how its rows differ.

    The target comes first if it is there, ids and groups are carried along if they are there. A kept column that is missing
    or holds another kind is refused.
    """
    from chaff.cli.console import Show
    from chaff.decide.apply import apply_selection
    from chaff.decide.drift import Watcher
    from chaff.decide.selection import read_selection
    from chaff.files import check_place, keep_existing, reads

    show = Show(form)
    for read in (selection, data):
        reads(read)
    with keep_existing(False):  # whether it is there, and holds the same, is asked when it is made
        check_place(out)
    chosen = read_selection(selection)
    watcher = Watcher(chosen)
    apply_selection(chosen, data, out, strict, watcher)
    result = watcher.drifts()
    show.say(f" {len(chosen.kept)} kept features of {data}")
    show_drift(show, result)
    show.finish("apply", {"kept": list(chosen.features), "data": data, "drift": result}, [out])


def show_drift(show: Show, result: Drifts, everything: bool = False) -> None:
    """The columns that moved, or that none did."""
    from chaff.cli.tables import grid, title
    from chaff.results.digits import figure, p_value
    from chaff.results.shown import Cell, Styled

    if not len(result.frame):
        return
    title(show, result.headline)
    rows: list[list[Cell]] = []
    frame = result.frame if everything else result.frame[result.frame["moved"]]
    for name, r in frame.sort_values("stability", ascending=False, kind="stable").iterrows():
        missing = f"{r['missing_then']:.1%} → {r['missing_now']:.1%}"
        word = Styled("drifted" if r["moved"] else "", "review")
        rows.append([str(name), word, figure(r["stability"]), figure(r["distance"], 2), p_value(r["p"]), missing, r["why"]])
    if rows:
        grid(show, ["column", "", "PSI", "distance (KS)", "p", "missing, then → now", "reason"], rows, required=("PSI", "reason"), names=1)
    if result.remarks:
        show.note(f"no drift, but values outside the training range: {'; '.join(result.remarks)}")
