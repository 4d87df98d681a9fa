"""`chaff recheck`: does a selection still serve on new rows?"""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING, Any

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import all_option, file_ending, memory_option, parse_choice, parse_rows, rows_option, scratch_option, work_options
from chaff.files import SAVED

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.decide.rechecking.result import OldRows, Recheck, RerunPlan


@click.command("recheck", cls=Command, examples=["chaff recheck chaff-out/selection.json new.csv --out drift-{date}.json"])
@click.argument("selection", type=click.Path())
@click.argument("data", type=click.Path(), metavar="NEWDATA")
@click.option(
    "--old",
    type=click.Path(),
    metavar="FILE",
    help="The rows used for the selection: also tests the old coefficients, and whether a model can distinguish old rows from new.",
)
@click.option("--rerun", is_flag=True, help="Rerun the whole plan on the new rows; reports features added, removed and reranked.")
@click.option("--model", metavar="NAME", help="The final model (the one that decided then).")
@rows_option
@memory_option
@scratch_option
@all_option
@click.option(
    "--out",
    metavar="FILE",
    help="Write the results: .json, or the drift of each column as .csv or .parquet. {date} in the name is today's date.",
)
@work_options
def command(
    selection: str, data: str, old: str | None, rerun: bool, model: str | None, model_rows: str | None, memory: str | None,
    scratch: str | None, everything: bool, out: str | None, seed: int, workers: int | None, form: str,
) -> None:  # fmt: skip
    """Does SELECTION (a selection.json) still serve on the rows of NEWDATA, which have their target?

    The same columns with new coefficients against all columns offered then, and how far every column has moved. Ends with 0 where
    the selection may stay, 10 where it is to be refitted, 20 where columns are to be selected again.
    """
    from chaff.cli.console import Show
    from chaff.decide.rechecking.call import recheck
    from chaff.decide.selection import read_selection
    from chaff.files import check_place, reads, save_frame

    file_ending(out, SAVED, "--out")
    out = out.replace("{date}", date.today().isoformat()) if out else None
    show = Show(form)
    for read in (selection, data, *([old] if old else [])):
        reads(read)
    if out:
        check_place(out)
    chosen = read_selection(selection)
    try:
        requested: Any = parse_rows(model_rows) or "auto"
        result = recheck(
            chosen, data, old=old, model=parse_choice(model, "--model"), rerun=rerun, rows=requested, memory=memory, scratch=scratch,
            seed=seed, workers=workers, watch=show.watch,
        )  # fmt: skip
    finally:
        show.stop()
    _show(show, result, everything)
    if out:
        save_frame(out, result.drift.frame, result.as_plain)
    show.finish("recheck", result.as_plain(), [out] if out else [])
    if result.exit_code:
        raise SystemExit(result.exit_code)


def _show(show: Show, result: Recheck, everything: bool) -> None:
    from chaff.cli.apply import show_drift
    from chaff.cli.console import KEEP, REVIEW
    from chaff.cli.tables import notes

    show.say(f" {result.headline}", f"bold {KEEP if result.verdict == 'stay' else REVIEW}")
    for reason in result.reasons[1:]:
        show.say(f"   {reason}", REVIEW)
    show.say()
    for words in result.scores:
        show.say(f" {words}")
    if result.old is not None:
        _old(show, result.old)
    show_drift(show, result.drift, everything)
    if result.rerun is not None:
        _rerun_table(show, result.rerun, everything)
    notes(show, result.notes)


def _old(show: Show, old: OldRows) -> None:
    in_words = "above 0.5" if old.apart_low > 0.5 else "not above 0.5"
    in_words += "; a value far below 0.5 means that new rows repeat old ones" if old.apart < 0.4 else ""
    by = f": {', '.join(f'{c} {v:.0%}' for c, v in old.by['importance'].head(4).items())}" if old.apart_low > 0.5 else ""
    show.say(f" old-versus-new classifier (forest): ROC AUC {old.apart:.3f}, {in_words}{by}")


def _rerun_table(show: Show, rerun: RerunPlan, everything: bool) -> None:
    from chaff.cli.tables import HEAD, grid, rest, title
    from chaff.results.shown import Cell

    title(show, f"The plan rerun on the new rows selects {len(rerun.features)}: {rerun.honest}")
    for word, names in (("added", rerun.comes), ("removed", rerun.goes)):
        if names:
            show.say(f"   {word}: {', '.join(names)}")
    if not rerun.comes and not rerun.goes:
        show.say("   the same features")
    subset = rerun.moved if everything else rerun.moved.head(HEAD)
    rows: list[list[Cell]] = [[str(f), r["stage"], str(r["then"]), str(r["now"])] for f, r in subset.iterrows()]
    if rows:
        grid(show, ["column", "place at", "then", "now"], rows, names=1)
        rest(show, len(subset), len(rerun.moved))
