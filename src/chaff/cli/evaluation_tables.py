"""The final model on held out rows, in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from chaff.cli.console import Show
from chaff.cli.tables import HEAD, grid, notes, rest, title
from chaff.metrics import METRICS
from chaff.results.digits import count, figure, p_value, with_error
from chaff.results.shown import Cell, Styled

if TYPE_CHECKING:
    from chaff.methods.evaluation.evaluation import Evaluation
    from chaff.methods.evaluation.everywhere import Everywhere
    from chaff.methods.evaluation.protection import Protection

WORST = 5
NARROW = 100


def show_evaluation(show: Show, result: Evaluation, threshold: float | None = None) -> None:
    """Metrics side by side, the class table or how far off, and the worst rows."""
    title(show, f"The final model, {result.headline}")
    text = result.metric_table()
    if show.width < NARROW:  # room for the difference, which is what a reader is after
        text["full"] = [figure(result.frame.loc[m.name, "full"]) for m in result.metrics]
    grid(
        show,
        ["metric", *text.columns],
        [[str(m), *map(str, r)] for m, r in text.iterrows()],
        required=("metric", *text.columns[:3]),
        names=0,
    )
    if result.classes:
        _classes(show, result, threshold)
    notes(show, result.notes)
    worst = result.worst(WORST)
    title(show, "Rows with the largest loss of the kept set")
    names = ["row", *[c for c in worst.columns if c != "loss"], "loss"]
    rows: list[list[Cell]] = [[str(row), *(figure(r[c]) for c in names[1:])] for row, r in worst.iterrows()]
    grid(show, [n.replace("_", " ") for n in names], rows, required=("row", "true", "predicted kept"), names=0)


def _classes(show: Show, result: Evaluation, threshold: float | None) -> None:
    cut = f", positive from a probability of {threshold:g}" if threshold is not None else ""
    title(show, f"Confusion matrix of the kept set (rows: actual, columns: predicted){cut}")
    counts, shares = result.confusion(threshold=threshold), result.confusion(threshold=threshold, shares=True)
    by = result.by_class(threshold=threshold)
    rows: list[list[Cell]] = []
    for c in result.classes:
        cells = [f"{count(counts.loc[c, d])} ({shares.loc[c, d]:.0%})" for d in result.classes]
        rows.append([c, *cells, figure(by.loc[c, "recall"]), figure(by.loc[c, "precision"])])
    grid(show, ["actual", *(f"predicted {c}" for c in result.classes), "recall", "precision"], rows, required=("actual",), names=0)
    if len(result.classes) == 2:
        several = result.thresholds()
        rows = [[f"{t:g}", *(figure(r[c]) for c in several.columns)] for t, r in several.iterrows()]
        grid(show, ["threshold", *(str(c).replace("_", " ") for c in several.columns)], rows, required=("threshold",), names=0)


def show_everywhere(show: Show, result: Everywhere) -> None:
    """Which relations hold in every part, and where the kept set falls behind."""
    title(show, result.headline)
    frame = result.features.head(HEAD)
    rows: list[list[Cell]] = []
    for f, r in frame.iterrows():
        word = Styled("differs", "review") if r["differs"] else Styled("consistent", "keep") if r["p"] == r["p"] else Styled("not tested")
        reach = [f"{r['lowest']:+.2f} ({r['lowest_in']})", f"{r['highest']:+.2f} ({r['highest_in']})"]
        rows.append([str(f), word, f"{r['overall']:+.2f}", *reach, f"{r['same_way']:.0%}", p_value(r["q"])])
    grid(
        show,
        ["feature", "result", "slope", "lowest", "highest", "same sign", "Holm p"],
        rows,
        required=("result", "slope", "Holm p"),
        names=1,
    )
    rest(show, len(frame), len(result.features))
    r2 = result.metric == "r2"  # is itself the share of the baseline loss that is saved
    label, saved_share = METRICS[result.metric].label, "reduction of baseline loss ± SE"
    worst = result.parts.head(WORST)
    text: list[list[Cell]] = [
        [
            str(p),
            f"{int(r['rows']):,}",
            *([] if r2 else [figure(r["score"])]),
            with_error(r["gain"], r["gain_se"]),
            Styled("worse" if r["behind"] else "", "review"),
        ]
        for p, r in worst.iterrows()
    ]
    shown = f"{label} ± SE" if r2 else saved_share
    grid(show, [result.by, "rows", *([] if r2 else [label]), shown, ""], text, required=(result.by, shown), names=0)
    rest(show, len(worst), len(result.parts), "the page and --format json have them")
    saved = (f"does the score differ between the parts? p = {p_value(result.score_p)}",) if result.score_p == result.score_p else ()
    notes(show, (*saved, *result.notes))


def show_protection(show: Show, result: Protection) -> None:
    """What the kept columns tell of what must not be used."""
    from chaff.cli.console import KEEP, REVIEW

    show.say()
    show.say(f" {result.headline}", f"bold {REVIEW if result.telling else KEEP}")
    for words in result.words:
        show.say(f"   {words}")
    notes(show, result.notes)
