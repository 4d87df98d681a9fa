"""The final model on held out rows, in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from chaff.cli.console import Show
from chaff.cli.grids import grid, notes, title
from chaff.results.digits import figure
from chaff.results.shown import Cell

if TYPE_CHECKING:
    from chaff.methods.evaluation.evaluation import Evaluation

WORST = 5
NARROW = 100


def show_evaluation(show: Show, found: Evaluation, threshold: float | None = None) -> None:
    """Metrics side by side, the class table or how far off, and the worst rows."""
    title(show, f"The final model, {found.headline}")
    told = found.told()
    if show.width < NARROW:  # room for the difference, which is what a reader is after
        told["full"] = [figure(found.frame.loc[m.name, "full"]) for m in found.metrics]
    grid(
        show, ["metric", *told.columns], [[str(m), *map(str, r)] for m, r in told.iterrows()], asked=("metric", *told.columns[:3]), names=0
    )
    if found.classes:
        _classes(show, found, threshold)
    notes(show, found.notes)
    worst = found.worst(WORST)
    title(show, "Rows that the kept set predicts worst")
    names = ["row", *[c for c in worst.columns if c != "loss"], "loss"]
    rows: list[list[Cell]] = [[str(row), *(figure(r[c]) for c in names[1:])] for row, r in worst.iterrows()]
    grid(show, [n.replace("_", " ") for n in names], rows, asked=("row", "true", "predicted kept"), names=0)


def _classes(show: Show, found: Evaluation, threshold: float | None) -> None:
    cut = f", said from a share of {threshold:g} on" if threshold is not None else ""
    title(show, f"What was (rows) and what the kept set says (columns){cut}")
    counts, shares = found.confusion(threshold=threshold), found.confusion(threshold=threshold, shares=True)
    by = found.by_class(threshold=threshold)
    rows: list[list[Cell]] = []
    for c in found.classes:
        cells = [f"{counts.loc[c, d]:,} ({shares.loc[c, d]:.0%})" for d in found.classes]
        rows.append([c, *cells, figure(by.loc[c, "found"]), figure(by.loc[c, "right"])])
    grid(show, ["was", *(f"says {c}" for c in found.classes), "found", "right"], rows, asked=("was",), names=0)
    if len(found.classes) == 2:
        several = found.thresholds()
        rows = [[f"{t:g}", *(figure(r[c]) for c in several.columns)] for t, r in several.iterrows()]
        grid(show, ["from share", *(str(c).replace("_", " ") for c in several.columns)], rows, asked=("from share",), names=0)
