"""`chaff explain`: why a column stayed or went, from a selection alone."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from chaff.cli.help_pages import Command
from chaff.cli.options import all_option, file_ending, force_option, form_option

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.decide.explaining import Explanation


@click.command("explain", cls=Command, examples=["chaff explain chaff-out/selection.json protein_pct"])
@click.argument("selection", type=click.Path())
@click.argument("columns", nargs=-1, metavar="[COLUMN]…")
@all_option
@click.option(
    "--out", metavar="FILE", help="Write every step of every column: .csv, .parquet, .json, or .md to read; those to review first."
)
@force_option
@form_option
def command(selection: str, columns: tuple[str, ...], everything: bool, out: str | None, form: str) -> None:
    """Tell why a COLUMN of SELECTION (a selection.json) stayed or went: every stage, its figure, the limit, the reason.

    Without a column: what to look at first, what went and where, what was kept and how surely.
    """
    from chaff.cli.console import Show
    from chaff.decide.explaining import ENDINGS
    from chaff.decide.selection import read_selection
    from chaff.files import check_place, reads

    file_ending(out, ENDINGS, "--out")
    show = Show(form)
    reads(selection)
    if out:
        check_place(out)
    chosen = read_selection(selection)
    whole = chosen.explain()
    if columns:
        text = [t for c in columns for t in chosen.explain(c).columns]
        for k, one in enumerate(text):
            _one(show, one, k > 0)
    else:
        text = list(whole.columns)
        _all(show, whole, everything)
    if out:
        whole.save(out)
    if form == "json" or out:
        show.finish("explain", {"target": chosen.target.name, "columns": [t.as_plain() for t in text]}, [out] if out else [])


def _one(show: Show, text: Any, apart: bool) -> None:
    from chaff.cli.console import KEEP, REVIEW
    from chaff.results.shown import Styled, TextColumn, lay_out

    if apart:
        show.say()
    show.say(f" {text.headline}", f"bold {KEEP if text.fate == 'keep' else REVIEW}" if text.fate != "drop" else "bold")
    style = {"blocked": "review"}
    rows = text.rows()
    columns = [
        TextColumn("", [stage for stage, _, _ in rows], "word", True),
        TextColumn("", [Styled(verdict, style.get(verdict, verdict)) for _, verdict, _ in rows], "word", True),
        TextColumn("", [words for _, _, words in rows], "words", True),
    ]
    for line in lay_out(columns, show.width, indent=3).lines:
        show.pieces(line)
    for options in text.says:
        show.note(options)


def _all(show: Show, whole: Explanation, everything: bool) -> None:
    from chaff.cli.tables import HEAD, grid, rest, title
    from chaff.decide.explaining import HEADINGS
    from chaff.results.shown import Cell, Styled

    show.say(whole.headline, "bold")
    for fate in ("blocked", "review", "drop", "keep"):
        result = whole.of(fate)
        if not result:
            continue
        title(show, HEADINGS[fate])
        subset = result if everything or fate in ("blocked", "review") else result[:HEAD]
        rows: list[list[Cell]] = []
        for t in subset:
            s = t.deciding
            held = (s.figure + (f" (limit {s.limit})" if s.limit else "")) if s else ""
            word = Styled(t.stage, "review" if fate in ("blocked", "review") else fate)
            rows.append([word, t.feature, held, s.reason if s else ""])
        grid(show, ["decided by", "feature", "observed value", "reason"], rows, required=("decided by", "reason"), names=2)
        rest(show, len(subset), len(result))
    show.say()
    show.note("chaff explain SELECTION COLUMN tells the whole history of one")
