"""The page of a run: what was asked, the answer, what to look at, the curve, the final model, every column, every stage."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from chaff import plots
from chaff.decide.closing import Closing
from chaff.decide.explaining import Told, explanation_of
from chaff.decide.judging import StageReport
from chaff.decide.run import Run
from chaff.decide.telling import answer_line, closing_rows, closing_warnings, closing_words, curve_rows, stage_line
from chaff.errors import ChaffError
from chaff.evaluate.stage import name_of
from chaff.methods.evaluation.evaluation import Evaluation
from chaff.methods.evaluation.everywhere import Everywhere
from chaff.methods.evaluation.protection import Protection
from chaff.methods.search.stage import SearchTrail
from chaff.report.figures import picture
from chaff.report.page import Block, Cell, Code, Grid, Page, Picture, Section, Words, frame_grid, number_cell, text_cell
from chaff.results.digits import count
from chaff.results.findings import Findings

FATE_WORDS = {"barred": "look, barred", "look": "look, stays", "drop": "drop", "keep": "keep"}


def page_of_run(
    run: Run, evaluation: Evaluation | None = None, everywhere: Everywhere | None = None, protection: Protection | None = None
) -> Page:
    """Every section that the run has something to say for."""
    everywhere = everywhere if everywhere is not None or not _has_parts(run) else _quietly(run.holds_everywhere)
    protection = protection if protection is not None or not run.table.terms.protected or not run.features else _quietly(run.protection)
    if evaluation is None and run.holdout.size:
        evaluation = run.evaluate(state=False)
    sections = [
        _answer(run), _looks(run), _sizes(run), _final(evaluation), _everywhere(everywhere), _protection(protection), _stand_ins(run),
        _columns(run), *map(_stage, run.stages), _asked(run),
    ]  # fmt: skip
    target = run.table.target
    made = run.selection.made_with
    return Page(
        title=f"Which columns predict {target.name}",
        subtitle=run.table.heading,
        sections=[s for s in sections if s is not None],
        made_with=f"chaff {made.get('chaff', '')}, Python {made.get('python', '')}; seed {run.selection.seed}; "
        f"data {run.selection.data.fingerprint[:19]}…",
        pins=True,
    )


def _has_parts(run: Run) -> bool:
    return bool(run.features) and (run.table.groups is not None or run.table.order is not None)


def _quietly(ask: Callable[[], Any]) -> Any:
    """None where nothing can be said, such as of parts with too few rows."""
    try:
        return ask()
    except ChaffError:
        return None


def _everywhere(found: Everywhere | None) -> Section | None:
    if found is None:
        return None
    blocks: list[Block] = [
        Words([_sentence(found.headline)]),
        Words(found.words, "warning"),
        frame_grid("relations", found.features, "each kept column's slope, in standard deviations, by part"),
        frame_grid("parts", found.parts, "the kept set's score by part, on rows that its model has not seen", found.by),
        Words(found.notes, "quiet"),
    ]
    return Section("everywhere", f"Does it hold everywhere, by {found.by}", blocks, short="Everywhere")


def _protection(found: Protection | None) -> Section | None:
    if found is None:
        return None
    blocks: list[Block] = [Words([_sentence(found.headline)], "warning" if found.telling else ""), Words(found.words)]
    if len(found.carriers):
        blocks.append(frame_grid("carriers", found.carriers, "share of what is told that goes without a column", "protected"))
    return Section("protected", "Stand-ins for what must not be used", [*blocks, Words(found.notes, "quiet")], short="Protected")


def _shown(blocks: list[Block | None]) -> list[Block]:
    return [b for b in blocks if b is not None]


def closing_grid(closing: Closing) -> Grid:
    """The closing table: all columns offered, full, kept, nothing."""
    head, *rows = closing_rows(closing)
    cells = [[text_cell(c, "keep" if row[0] == "kept" else "") for c in row] for row in rows]
    return Grid("closing", ["columns", *head[1:]], cells)


def _answer(run: Run) -> Section:
    kept = ", ".join(run.features) if run.features else "no column"
    blocks: list[Block | None] = [
        Words([_sentence(answer_line(run.closing))], "answer"),
        Words([f"Kept: {kept}."]),
        Words(closing_warnings(run.closing), "warning"),
        closing_grid(run.closing),
        Words(list(map(_sentence, closing_words(run)))),
        Words(_reading(run), "quiet"),
    ]
    return Section("answer", "The answer", _shown(blocks), short="Answer")


def _sentence(words: str) -> str:
    return words[:1].upper() + words[1:] + ("" if words.endswith(".") else ".")


def _reading(run: Run) -> list[str]:
    """What the words of the table mean, for who has never seen it."""
    out = []
    if run.closing.honest is not None:
        out.append("Honest: scored on rows that neither the search nor the choice of size and lens has seen; ± one standard error.")
    if run.closing.holdout_rows:
        out.append("Holdout: rows that were set aside before anything was looked at; the model is fitted on all the others.")
    out.append(
        "Keeps up: the kept set surely loses no more against the full one than the allowance. Nothing: predicting without any column."
    )
    return out


def _looks(run: Run) -> Section | None:
    told = [t for t in explanation_of(run.selection).told if t.fate in ("barred", "look")]
    if not told:
        return None
    rows = []
    for t in told:
        s = t.deciding
        held = (s.figure + (f" (limit {s.limit})" if s.limit else "")) if s else ""
        rows.append(
            [
                text_cell(t.feature),
                text_cell(FATE_WORDS[t.fate], t.fate),
                text_cell(held),
                text_cell(s.reason if s else ""),
                text_cell(t.about),
            ]
        )
    lead = Words(["A person should decide on these; barred ones take no part until they are pinned in."])
    return Section(
        "look", "Look at these yourself", [lead, Grid("looks", ["column", "what", "figure", "why", "what it is"], rows)], short="To look at"
    )


def _sizes(run: Run) -> Section | None:
    trail = run.stages[-1].result
    if not isinstance(trail, SearchTrail):
        return None
    head, *rows = curve_rows(trail)
    cells = [[number_cell(float(r[0]), r[0]), *(text_cell(c, "keep" if "chosen" in r[2] else "") for c in r[1:])] for r in rows]
    drawn = picture(
        lambda: plots.score_by_size(trail, unit=run.table.target.unit),
        f"Honest {trail.metric} against number of features through each lens; {len(trail.chosen)} chosen.",
    )
    lead = Words(["The score of each number of columns: the search is run anew inside every fold and judged on the rows left out."])
    grid = Grid("sizes", ["size", head[1], "mark", "comes", "goes"], cells)
    return Section("sizes", "How many columns", _shown([lead, drawn, grid]), short="Sizes")


def _final(found: Evaluation | None) -> Section | None:
    if found is None:
        return None
    told = found.told()
    blocks: list[Block | None] = [
        Words([f"{found.headline}."]),
        Grid("metrics", ["metric", *map(str, told.columns)], [[text_cell(m), *map(text_cell, r)] for m, r in told.iterrows()]),
        Words(found.notes, "quiet"),
        picture(lambda: plots.evaluated(found), _evaluated_words(found)),
    ]
    if found.classes:
        by = found.by_class()
        blocks.append(frame_grid("classes", by, "of each class: share found, and share of those said that are", "class"))
    if len(found.classes) == 2:
        several = found.thresholds()
        several.index = [f"{t:g}" for t in several.index]
        blocks.append(frame_grid("thresholds", several, f"said to be '{found.classes[1]}' from a share on", "from share"))
    blocks.append(frame_grid("worst", found.worst(), "rows that the kept set predicts worst", "row"))
    return Section("final", "The final model on held out rows", _shown(blocks), short="Final model")


def _evaluated_words(found: Evaluation) -> str:
    if not found.classes:
        return "Left: predicted against true, the worst rows ringed. Right: share of rows within a distance, full and kept set."
    counts = found.confusion()
    said = "; ".join(f"{c}: " + ", ".join(f"{count(counts.loc[c, d])} said {d}" for d in found.classes) for c in found.classes)
    return f"Left: class table ({said}). Right: predicted shares against what came."


def _stand_ins(run: Run) -> Section | None:
    pairs = run.selection.stand_ins
    if not pairs:
        return None
    shares = run.selection.kept_shares
    rows = []
    for a, b in pairs:
        cells = [text_cell(a), number_cell(shares.get(a, float("nan")), f"{shares.get(a, 0):.0%}")]
        rows.append([*cells, text_cell(b), number_cell(shares.get(b, float("nan")), f"{shares.get(b, 0):.0%}")])
    lead = Words(["Pairs of which the folds kept the one or the other, hardly ever both: either will do."])
    return Section(
        "alternatives", "What could stand in", [lead, Grid("pairs", ["either", "kept in", "or", "kept in "], rows)], short="Stand-ins"
    )


MEASURES = (("relevance", "effect_size"), ("overlap", "vif"), ("importance", "importance"))


def _columns(run: Run) -> Section:
    told = explanation_of(run.selection).told
    shares, found = run.selection.kept_shares, {r.stage.use: r.result.frame for r in run.stages if isinstance(r.result, Findings)}
    measures = [(use, c) for use, c in MEASURES if use in found and c in found[use].columns]
    headers = ["column", "verdict", "decided by", *(c.replace("_", " ").replace("vif", "VIF") for _, c in measures)]
    headers += ["kept in folds"] if shares else []
    rows = []
    for t in told:
        row = [_history(t), text_cell(FATE_WORDS[t.fate], t.fate), text_cell(t.stage)]
        row += [number_cell(_at(found[use], t.feature, c)) for use, c in measures]
        if shares:
            share = shares.get(t.feature, float("nan"))
            row.append(number_cell(share, f"{share:.0%}" if share == share else ""))
        s = t.deciding
        rows.append([*row, text_cell(s.reason if s else ""), text_cell(t.about)])
    lead = Words(["Open a name for everything that was said of it. A click on a heading sorts."])
    return Section("columns", "Every column", [lead, Grid("columns", [*headers, "why", "what it is"], rows, pins=True)], short="Columns")


def _history(t: Told) -> Cell:
    plain = text_cell(t.feature)
    return Cell(plain.text, plain.sort, "", tuple(t.rows()), t.says)


def _at(frame: Any, feature: str, column: str) -> float:
    value = frame[column].get(feature, float("nan"))
    return float(value) if isinstance(value, int | float) else float("nan")


def _stage(report: StageReport) -> Section:
    count, words = stage_line(report)
    name = name_of(report.stage)
    blocks: list[Block | None] = [Words([f"{count}: {words}."])]
    result = report.result
    if isinstance(result, Findings):
        blocks += [
            Words(result.notes, "quiet"),
            *_figures(report),
            frame_grid(f"stage-{name}", result.shown(), "every measure of this stage"),
        ]
    else:
        blocks += [Words(getattr(result, "notes", ()), "quiet"), frame_grid(f"stage-{name}", result.frame, "every move", "move")]
    return Section(f"stage-{name}".replace(" ", "-"), f"Stage {name}", _shown(blocks), True, name)


def _figures(report: StageReport) -> list[Picture | None]:
    result: Any = report.result
    use = report.stage.use
    if use == "relevance":
        return [picture(lambda: plots.relevance_bars(result), f"The features that lead by {result.lead.replace('_', ' ')}, as bars.")]
    if use == "importance":
        return [
            picture(lambda: plots.importance_bars(result), "The features that lead by importance, as bars with their spread over folds.")
        ]
    if use == "overlap" and "matrix" in result.more:
        return [
            picture(lambda: plots.correlation_map(result), "Correlations of the columns that have a partner, in the order of their tree.")
        ]
    return []


def _asked(run: Run) -> Section:
    plan, notes = run.selection.plan, [*run.table.roles_said, *run.table.notes]
    said = [f"{len(run.table):,} rows of {run.table.label}, {len(run.table.features)} columns offered for {run.table.target.name}."]
    held = run.selection.holdout
    if held.count:
        times = "once" if held.reads == 1 else f"{held.reads} times"
        said.append(f"{held.count:,} rows were held out ({held.how}) before anything was looked at, and have been read {times}.")
    from chaff.decide.plan import plan_from

    text = plan_from(plan).to_toml()
    return Section("asked", "What was asked", [Words(said), Words(notes, "quiet"), Code(text, "the plan")], True, "Asked")
