"""The page of a comparison: methods side by side, their curves, which keeps what, where they agree."""

from __future__ import annotations

from chaff import plots
from chaff.methods.comparing.comparison import Comparison
from chaff.methods.search.size_choice import SizeRule
from chaff.report.of_run import picture
from chaff.report.page import Block, Cell, Grid, Page, Section, Words, frame_grid, number_cell, text_cell
from chaff.results.digits import score
from chaff.version import __version__


def page_of_comparison(result: Comparison) -> Page:
    """Every section of a comparison."""
    table = result.scorer.table
    best = result.frame.sort_values("best", ascending=result.sign < 0)
    sections = [_answer(result, str(best.index[0])), _curves(result), _kept(result), _agreement(result), _scores(result)]
    return Page(
        title=f"{len(result.methods)} methods compared for {table.target.name}",
        subtitle=table.heading,
        sections=sections,
        made_with=f"chaff {__version__}; seed {result.scorer.work.seed}",
    )


def _shown(blocks: list[Block | None]) -> list[Block]:
    return [b for b in blocks if b is not None]


def _answer(result: Comparison, best: str) -> Section:
    row, label = result.frame.loc[best], result.scorer.metric.label
    full, nothing = (float(result.yardsticks[k].mean()) for k in ("all features", "nothing"))
    words = f"The best score is that of {best}: {label} {score(row['best'])} with {int(row['best_size'])} features"
    words += f"; all {len(result.scorer.features)} features give {score(full)}, the baseline {score(nothing)}."
    frame = result.frame.rename(columns={"kept": "kept_on_average"})
    grid = frame_grid("methods", frame, f"chosen size: {SizeRule()}, of each method", "method")
    warning = "Choosing the best row is itself a selection; chaff select estimates the score after it."
    return Section("answer", "The answer", [Words([words], "answer"), grid, Words([*result.notes, warning], "quiet")])


def _curves(result: Comparison) -> Section:
    drawn = picture(lambda: plots.compared_curves(result), f"{result.scorer.metric.label} against number of features, a line a method.")
    curves = result.curves.reset_index().set_index("method")
    return Section("curves", "Score against number of features", _shown([drawn, frame_grid("sizes", curves, first="method")]))


def _kept(result: Comparison) -> Section:
    kept = result.kept()
    kept = kept[kept.any(axis=1)]
    drawn = picture(lambda: plots.kept_by_methods(result), "Features selected by each method, most often selected first.")
    rows = []
    for f, r in kept.iterrows():
        marks = [Cell("keeps" if r[m] else "", 1.0 if r[m] else 0.0, "keep" if r[m] else "") for m in kept.columns]
        rows.append([text_cell(f), number_cell(float(r.sum())), *marks])
    grid = Grid("kept", ["feature", "kept by", *map(str, kept.columns)], rows, "each method at its chosen size")
    return Section("kept", "Features by method", _shown([drawn, grid]))


def _agreement(result: Comparison) -> Section:
    frame = result.agreement
    rows = frame.set_index("first") if len(frame) else frame
    blocks: list[Block] = [frame_grid("agreement", rows, "each pair of methods, on all rows", "first")] if len(frame) else []
    return Section("agreement", "Agreement", [Words(["Rank correlation of the orders, and overlap of the sets."]), *blocks])


def _scores(result: Comparison) -> Section:
    flat = result.scores.copy()
    flat.columns = [f"{m} {what}" for m, what in flat.columns]
    return Section(
        "scores", "Every score", [frame_grid("scores", flat, "raw: the method's own figure; scaled: 1 the first, 0 the last")], True
    )
