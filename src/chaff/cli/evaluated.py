"""The final model on held out rows, in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from chaff.cli.console import Show
from chaff.cli.grids import HEAD, grid, notes, rest, title
from chaff.metrics import METRICS
from chaff.results.digits import count, figure, p_value, with_error
from chaff.results.shown import Cell, Styled

if TYPE_CHECKING:
    from chaff.methods.evaluation.evaluation import Evaluation
    from chaff.methods.evaluation.everywhere import Everywhere
    from chaff.methods.evaluation.protection import Protection

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
        cells = [f"{count(counts.loc[c, d])} ({shares.loc[c, d]:.0%})" for d in found.classes]
        rows.append([c, *cells, figure(by.loc[c, "found"]), figure(by.loc[c, "right"])])
    grid(show, ["was", *(f"says {c}" for c in found.classes), "found", "right"], rows, asked=("was",), names=0)
    if len(found.classes) == 2:
        several = found.thresholds()
        rows = [[f"{t:g}", *(figure(r[c]) for c in several.columns)] for t, r in several.iterrows()]
        grid(show, ["from share", *(str(c).replace("_", " ") for c in several.columns)], rows, asked=("from share",), names=0)


def show_everywhere(show: Show, found: Everywhere) -> None:
    """Which relations hold in every part, and where the kept set falls behind."""
    title(show, found.headline)
    frame = found.features.head(HEAD)
    rows: list[list[Cell]] = []
    for f, r in frame.iterrows():
        word = Styled("in some only", "look") if r["differs"] else Styled("holds", "keep") if r["p"] == r["p"] else Styled("not tested")
        reach = [f"{r['lowest']:+.2f} ({r['lowest_in']})", f"{r['highest']:+.2f} ({r['highest_in']})"]
        rows.append([str(f), word, f"{r['overall']:+.2f}", *reach, f"{r['same_way']:.0%}", p_value(r["q"])])
    grid(show, ["feature", "", "slope", "lowest", "highest", "same way", "p adjusted"], rows, asked=("", "slope", "p adjusted"), names=1)
    rest(show, len(frame), len(found.features))
    worst = found.parts.head(WORST)
    told: list[list[Cell]] = [
        [
            str(p),
            f"{int(r['rows']):,}",
            figure(r["score"]),
            with_error(r["gain"], r["gain_se"]),
            Styled("behind" if r["behind"] else "", "look"),
        ]
        for p, r in worst.iterrows()
    ]
    grid(show, [found.by, "rows", METRICS[found.metric].label, "share saved", ""], told, asked=(found.by, "share saved"), names=0)
    rest(show, len(worst), len(found.parts), "the page and --format json have them")
    saved = (f"do the parts differ in what is saved? p {p_value(found.score_p)}",) if found.score_p == found.score_p else ()
    notes(show, (*saved, *found.notes))


def show_protection(show: Show, found: Protection) -> None:
    """What the kept columns tell of what must not be used."""
    from chaff.cli.console import KEEP, LOOK

    show.say()
    show.say(f" {found.headline}", f"bold {LOOK if found.telling else KEEP}")
    for words in found.words:
        show.say(f"   {words}")
    notes(show, found.notes)
