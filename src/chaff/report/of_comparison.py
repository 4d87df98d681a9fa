"""The page of a comparison: methods side by side, their curves, which keeps what, where they agree."""

from __future__ import annotations

from chaff import __version__, plots
from chaff.methods.comparing.comparison import Comparison
from chaff.report.figures import picture
from chaff.report.page import Block, Cell, Grid, Page, Section, Words, frame_grid, number_cell, text_cell
from chaff.results.digits import score


def page_of_comparison(found: Comparison) -> Page:
    """Every section of a comparison."""
    table = found.scorer.table
    best = found.frame.sort_values("best", ascending=found.sign < 0)
    sections = [_answer(found, str(best.index[0])), _curves(found), _kept(found), _agreement(found), _scores(found)]
    return Page(
        title=f"{len(found.methods)} methods compared for {table.target.name}",
        subtitle=table.heading,
        sections=sections,
        made_with=f"chaff {__version__}; seed {found.scorer.work.seed}",
    )


def _shown(blocks: list[Block | None]) -> list[Block]:
    return [b for b in blocks if b is not None]


def _answer(found: Comparison, best: str) -> Section:
    row, label = found.frame.loc[best], found.scorer.metric.label
    full, nothing = (float(found.yardsticks[k].mean()) for k in ("all features", "nothing"))
    words = f"The best score is that of {best}: {label} {score(row['best'])} with {int(row['best_size'])} features"
    words += f"; all {len(found.scorer.features)} features give {score(full)}, nothing gives {score(nothing)}."
    frame = found.frame.rename(columns={"kept": "kept_on_average"})
    grid = frame_grid("methods", frame, "smallest: within one standard error and 2 % of the gain of its own best", "method")
    warning = (
        "A choice of method from this table is a choice: what the chosen one is worth on rows that nobody has seen, chaff select says."
    )
    return Section("answer", "The answer", [Words([words], "answer"), grid, Words([*found.notes, warning], "quiet")])


def _curves(found: Comparison) -> Section:
    drawn = picture(lambda: plots.compared_curves(found), f"{found.scorer.metric.label} against number of features, a line a method.")
    curves = found.curves.reset_index().set_index("method")
    return Section("curves", "Score against number of features", _shown([drawn, frame_grid("sizes", curves, first="method")]))


def _kept(found: Comparison) -> Section:
    kept = found.kept()
    kept = kept[kept.any(axis=1)]
    drawn = picture(lambda: plots.kept_by_methods(found), "Which method keeps which feature, those that most keep on top.")
    rows = []
    for f, r in kept.iterrows():
        marks = [Cell("keeps" if r[m] else "", 1.0 if r[m] else 0.0, "keep" if r[m] else "") for m in kept.columns]
        rows.append([text_cell(f), number_cell(float(r.sum())), *marks])
    grid = Grid("kept", ["feature", "kept by", *map(str, kept.columns)], rows, "each method at its own smallest size")
    return Section("kept", "Which method keeps what", _shown([drawn, grid]))


def _agreement(found: Comparison) -> Section:
    frame = found.agreement
    rows = frame.set_index("first") if len(frame) else frame
    blocks: list[Block] = [frame_grid("agreement", rows, "each pair of methods, on all rows", "first")] if len(frame) else []
    return Section("agreement", "Where they agree", [Words(["Rank correlation of their orders, and what their sets share."]), *blocks])


def _scores(found: Comparison) -> Section:
    flat = found.scores.copy()
    flat.columns = [f"{m} {what}" for m, what in flat.columns]
    return Section(
        "scores", "Every score", [frame_grid("scores", flat, "raw: the method's own figure; scaled: 1 the first, 0 the last")], True
    )
