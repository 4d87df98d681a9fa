"""`chaff search --journal FILE --show`: what a journal holds."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from chaff.cli.console import Show


def show_journal(show: Show, data: str | None, journal: str | None) -> None:
    """A row for every model, metric and folds."""
    from chaff.cli.tables import count, grid, title
    from chaff.evaluate.journal import read_journal
    from chaff.results.digits import score

    if journal is None:
        raise click.UsageError("--show lists a journal: say --journal FILE with it")
    if data is not None:
        raise click.UsageError("--show lists a journal and searches nothing: leave DATA out")
    about, entries = read_journal(journal)
    title(show, f"Journal {journal}: {int(about.get('rows', 0)):,} rows, target {about.get('target', '')}, {about['columns']} columns")
    rows = [[f"{e.sets:,}", score(e.best), str(e.size) if e.sets else "", e.metrics.split(" ")[0], e.how, e.model] for e in entries]
    if rows:
        grid(show, ["sets", "best", "size", "metric", "folds", "what"], rows, required=("sets", "best", "size", "metric", "what"), names=0)
    for e in entries:
        if e.sets and not e.how.endswith("inside"):
            show.note(f"best, {e.size}: {', '.join(e.features)}")
    show.note(f"{count(sum(e.sets for e in entries), 'scored set')} in all")
    show.finish("search", {"data": about, "grounds": entries})
