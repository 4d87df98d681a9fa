"""`chaff recheck`: does a selection still serve on new rows?"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from chaff.cli.choices_said import choice_said
from chaff.cli.options import all_option, file_ending, memory_option, rows_said, rows_said_option, scratch_option, work_options
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.decide.rechecking.result import Anew, OldRows, Recheck


@click.command("recheck")
@click.argument("selection", type=click.Path())
@click.argument("data", type=click.Path(), metavar="NEWDATA")
@click.option(
    "--old", type=click.Path(), metavar="FILE", help="The rows that were selected from: then coefficients from then are tried too, and a "
    "model tells old rows from new.",
)  # fmt: skip
@click.option("--anew", is_flag=True, help="Run the whole plan on the new rows, and say which columns come, go and move.")
@click.option("--model", metavar="NAME", help="The final model (the one that decided then).")
@rows_said_option
@memory_option
@scratch_option
@all_option
@click.option("--out", metavar="FILE", help="Write what was found: .json, or how each column has moved as .csv or .parquet.")
@work_options
def command(
    selection: str, data: str, old: str | None, anew: bool, model: str | None, model_rows: str | None, memory: str | None,
    scratch: str | None, everything: bool, out: str | None, seed: int, workers: int | None, form: str,
) -> None:  # fmt: skip
    """Does SELECTION (a selection.json) still serve on the rows of NEWDATA, which have their target?

    The same columns with new coefficients against all columns offered then, and how far every column has moved. Ends with 0 where
    the selection may stay, 10 where it is to be fitted anew, 20 where columns are to be selected anew.
    """
    from chaff.cli.console import Show, tell_of_compiling
    from chaff.decide.rechecking.call import recheck
    from chaff.decide.selection import read_selection
    from chaff.files import check_place, reads, save_frame

    file_ending(out, SAVED, "--out")
    show = Show(form)
    for read in (selection, data, *([old] if old else [])):
        reads(read)
    if out:
        check_place(out)
    chosen = read_selection(selection)
    tell_of_compiling(show)
    try:
        asked: Any = rows_said(model_rows) or "auto"
        found = recheck(
            chosen, data, old=old, model=choice_said(model, "--model"), anew=anew, rows=asked, memory=memory, scratch=scratch,
            seed=seed, workers=workers, watch=show.watch,
        )  # fmt: skip
    finally:
        show.stop()
    _show(show, found, everything)
    if out:
        save_frame(out, found.drift.frame, found.as_plain)
    show.finish("recheck", found.as_plain(), [out] if out else [])
    if found.exit_code:
        raise SystemExit(found.exit_code)


def _show(show: Show, found: Recheck, everything: bool) -> None:
    from chaff.cli.apply import show_drift
    from chaff.cli.console import KEEP, LOOK
    from chaff.cli.grids import notes

    show.say(f" {found.headline}", f"bold {KEEP if found.verdict == 'stay' else LOOK}")
    for reason in found.reasons[1:]:
        show.say(f"   {reason}", LOOK)
    show.say()
    for words in found.scores:
        show.say(f" {words}")
    if found.old is not None:
        _old(show, found.old)
    show_drift(show, found.drift, everything)
    if found.anew is not None:
        _anew(show, found.anew, everything)
    notes(show, found.notes)


def _old(show: Show, old: OldRows) -> None:
    tells = "it can" if old.apart_low > 0.5 else "by chance alone"
    by = f": {', '.join(f'{c} {v:.0%}' for c, v in old.by['importance'].head(4).items())}" if old.apart_low > 0.5 else ""
    show.say(f" a forest telling old rows from new: ROC AUC {old.apart:.3f}, {tells}{by}")


def _anew(show: Show, anew: Anew, everything: bool) -> None:
    from chaff.cli.grids import HEAD, grid, rest, title
    from chaff.results.shown import Cell

    title(show, f"The whole plan on the new rows keeps {len(anew.features)}: {anew.honest}")
    for word, names in (("comes", anew.comes), ("goes", anew.goes)):
        if names:
            show.say(f"   {word}: {', '.join(names)}")
    if not anew.comes and not anew.goes:
        show.say("   the same columns")
    some = anew.moved if everything else anew.moved.head(HEAD)
    rows: list[list[Cell]] = [[str(f), r["stage"], str(r["then"]), str(r["now"])] for f, r in some.iterrows()]
    if rows:
        grid(show, ["column", "place at", "then", "now"], rows, names=1)
        rest(show, len(some), len(anew.moved))
