"""The page of a run: what was asked, the answer, what to look at, the curve, the final model, every column, every stage."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from chaff import plots
from chaff.decide.explaining import ColumnHistory, explanation_of
from chaff.decide.final_scores import FinalScores
from chaff.decide.run import Run
from chaff.decide.run_text import answer_line, curve_rows, final_warnings, score_notes, score_rows, stage_line
from chaff.decide.stage_report import StageReport
from chaff.errors import ChaffError
from chaff.evaluate.stage import name_of
from chaff.methods.evaluation.evaluation import Evaluation
from chaff.methods.evaluation.everywhere import Everywhere
from chaff.methods.evaluation.protection import Protection
from chaff.methods.search.stage import SelectionSearch
from chaff.report.page import Block, Cell, Code, Grid, Limit, Page, Picture, Section, Walk, Words, frame_grid, number_cell, text_cell
from chaff.results.digits import count, with_error
from chaff.results.findings import NEUTRAL, Findings

FONTS = ("DejaVu Sans", "Verdana", "sans-serif")


def picture(draw: Callable[[], Any], alt: str, caption: str = "") -> Picture | None:
    """What a function draws (an axes or a figure); None where there is nothing to draw."""
    import matplotlib

    try:
        drawn = draw()
    except ChaffError:
        return None
    out = io.BytesIO()
    with matplotlib.rc_context({"svg.fonttype": "none", "svg.hashsalt": "chaff", "font.family": FONTS}):
        drawn.figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    return Picture(out.getvalue(), alt, caption)


FATE_WORDS = {"blocked": "review, blocked", "review": "review, kept", "drop": "drop", "keep": "keep"}


def page_of_run(
    run: Run, evaluation: Evaluation | None = None, everywhere: Everywhere | None = None, protection: Protection | None = None
) -> Page:
    """Every section that the run has something to say for."""
    everywhere = everywhere if everywhere is not None or not _has_parts(run) else _quietly(run.holds_everywhere)
    protection = protection if protection is not None or not run.table.terms.protected or not run.features else _quietly(run.protection)
    if evaluation is None and run.holdout.size:
        evaluation = run.evaluate(state=False)
    sections = [
        _answer(run), _review_section(run), _sizes(run), _final(evaluation), _everywhere(everywhere), _protection(protection),
        _stand_ins(run), _columns(run), *map(_stage, run.stages), _settings_section(run),
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


def _everywhere(result: Everywhere | None) -> Section | None:
    if result is None:
        return None
    blocks: list[Block] = [
        Words([_sentence(result.headline)]),
        Words(result.words, "warning"),
        frame_grid("relations", result.features, "slope of each selected feature, in standard deviations, by part"),
        frame_grid("parts", result.parts, "score of the selected set by part, on test folds", result.by),
        Words(result.notes, "quiet"),
    ]
    return Section("everywhere", f"Slopes and score by {result.by}", blocks, short="By part")


def _protection(result: Protection | None) -> Section | None:
    if result is None:
        return None
    blocks: list[Block] = [Words([_sentence(result.headline)], "warning" if result.telling else ""), Words(result.words)]
    if len(result.carriers):
        blocks.append(frame_grid("carriers", result.carriers, "share of the prediction lost without a feature", "protected"))
    return Section("protected", "Features that predict protected columns", [*blocks, Words(result.notes, "quiet")], short="Protected")


def _shown(blocks: list[Block | None]) -> list[Block]:
    return [b for b in blocks if b is not None]


def score_grid(final_scores: FinalScores) -> Grid:
    """The table of final scores: all columns offered, full, kept, nothing."""
    head, *rows = score_rows(final_scores)
    cells = [[text_cell(c, "keep" if row[0] == "kept" else "") for c in row] for row in rows]
    return Grid("final_scores", ["set", *head[1:]], cells)


def _answer(run: Run) -> Section:
    kept = ", ".join(run.features) if run.features else "no column"
    blocks: list[Block | None] = [
        Words([_sentence(answer_line(run.final_scores))], "answer"),
        Words([f"Kept: {kept}."]),
        Words(final_warnings(run), "warning"),
        score_grid(run.final_scores),
        Words(list(map(_sentence, score_notes(run)))),
        Words(_reading(run), "quiet"),
    ]
    return Section("answer", "The answer", _shown(blocks), short="Answer")


def _sentence(words: str) -> str:
    return words[:1].upper() + words[1:] + ("" if words.endswith(".") else ".")


def _reading(run: Run) -> list[str]:
    """What the words of the table mean, for who has never seen it."""
    out = []
    if run.final_scores.honest is not None:
        out.append("Honest: score on test folds that neither the search nor the choice of size and model has used; ± one SE.")
    if run.final_scores.holdout_rows:
        out.append("Holdout: rows set aside before any analysis; the model is fitted on all other rows.")
    out.append(
        "Keeps up: the loss against the screened set is below the allowance (non-inferiority margin; "
        "one-sided 95 %). Baseline: the training mean or class shares."
    )
    return out


def _review_section(run: Run) -> Section | None:
    text = [t for t in explanation_of(run.selection).columns if t.fate in ("blocked", "review")]
    if not text:
        return None
    rows = []
    for t in text:
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
    lead = Words(["Decide on these; blocked features are not used until they are pinned in."])
    return Section(
        "review",
        "Needs review",
        [lead, Grid("looks", ["feature", "status", "observed value", "reason", "description"], rows)],
        short="Review",
    )


def _sizes(run: Run) -> Section | None:
    trail = run.stages[-1].result
    if not isinstance(trail, SelectionSearch):
        return None
    head, *rows = curve_rows(trail)
    cells = [[number_cell(float(r[0]), r[0]), *(text_cell(c, "keep" if "chosen" in r[2] else "") for c in r[1:])] for r in rows]
    drawn = picture(
        lambda: plots.score_by_size(trail, unit=run.table.target.unit),
        f"CV {trail.metric} against number of features, by model; {len(trail.chosen)} chosen.",
    )
    lead = Words(["CV score by size: the search is repeated inside every training fold and scored on the test fold."])
    grid = Grid("sizes", ["size", head[1], "mark", "added", "removed"], cells)
    return Section("sizes", "Score by size", _shown([lead, drawn, _walk(trail), grid]), short="Sizes")


def _walk(trail: SelectionSearch) -> Walk:
    """The sets of the deciding curve, to be moved along."""
    curve, frame, prices = trail.decided, trail.decided.frame(trail.data), trail.data.prices
    marks = {trail.choice.best: "best score", trail.choice.place: "chosen"}
    points = [
        {
            "size": size,
            "score": f"CV {trail.metric_of.label} {with_error(line['score'], line['score_se'])}",
            "cost": f"cost {prices.of_set(held):g}" if prices else "",
            "mark": marks.get(k, ""),
            "features": [f for f in trail.offered if f in held],
            "comes": list(line["comes"]),
            "goes": list(line["goes"]),
        }
        for k, (size, held, (_, line)) in enumerate(zip(curve.sizes, curve.sets, frame.iterrows(), strict=True))
    ]
    return Walk("walk", points, trail.choice.place, "--size")


def _final(result: Evaluation | None) -> Section | None:
    if result is None:
        return None
    text = result.metric_table()
    blocks: list[Block | None] = [
        Words([f"{result.headline}."]),
        Grid("metrics", ["metric", *map(str, text.columns)], [[text_cell(m), *map(text_cell, r)] for m, r in text.iterrows()]),
        Words(result.notes, "quiet"),
        picture(lambda: plots.evaluated(result), _evaluated_words(result)),
    ]
    if result.classes:
        by = result.by_class()
        blocks.append(frame_grid("classes", by, "recall and precision of each class", "class"))
    if len(result.classes) == 2:
        several = result.thresholds()
        several.index = [f"{t:g}" for t in several.index]
        blocks.append(frame_grid("thresholds", several, f"threshold of the predicted probability of '{result.classes[1]}'", "threshold"))
    blocks.append(frame_grid("worst", result.worst(), "rows with the largest loss of the kept set", "row"))
    return Section("final", "The final model on the holdout", _shown(blocks), short="Final model")


def _evaluated_words(result: Evaluation) -> str:
    if not result.classes:
        return "Left: predicted against true, the worst rows ringed. Right: share of rows within a distance, full and kept set."
    counts = result.confusion()
    given = "; ".join(f"{c}: " + ", ".join(f"{count(counts.loc[c, d])} predicted {d}" for d in result.classes) for c in result.classes)
    return f"Left: confusion matrix ({given}). Right: predicted probabilities against observed shares."


def _stand_ins(run: Run) -> Section | None:
    pairs = run.selection.interchangeable
    if not pairs:
        return None
    shares = run.selection.selection_frequencies
    rows = []
    for a, b in pairs:
        cells = [text_cell(a), number_cell(shares.get(a, float("nan")), f"{shares.get(a, 0):.0%}")]
        rows.append([*cells, text_cell(b), number_cell(shares.get(b, float("nan")), f"{shares.get(b, 0):.0%}")])
    lead = Words(["Pairs of which the folds selected one or the other, rarely both: either will do."])
    return Section(
        "alternatives",
        "Interchangeable features",
        [lead, Grid("pairs", ["feature A", "in folds", "feature B", "in folds "], rows)],
        short="Interchangeable",
    )


MEASURES = (("relevance", "effect_size"), ("overlap", "vif"), ("importance", "importance"))


def _columns(run: Run) -> Section:
    text = explanation_of(run.selection).columns
    shares, result = (
        run.selection.selection_frequencies,
        {r.stage.use: r.result.frame for r in run.stages if isinstance(r.result, Findings)},
    )
    measures = [(use, c) for use, c in MEASURES if use in result and c in result[use].columns]
    headers = ["column", "verdict", "decided by", *(c.replace("_", " ").replace("vif", "VIF") for _, c in measures)]
    headers += ["selection frequency"] if shares else []
    rows = []
    for t in text:
        row = [_history(t), text_cell(FATE_WORDS[t.fate], t.fate), text_cell(t.stage)]
        row += [number_cell(_at(result[use], t.feature, c)) for use, c in measures]
        if shares:
            share = shares.get(t.feature, float("nan"))
            row.append(number_cell(share, f"{share:.0%}" if share == share else ""))
        s = t.deciding
        rows.append([*row, text_cell(s.reason if s else ""), text_cell(t.about)])
    lead = Words(["Click a name for its history, a heading to sort."])
    return Section(
        "columns", "Every column", [lead, Grid("columns", [*headers, "reason", "description"], rows, pins=True)], short="Columns"
    )


def _history(t: ColumnHistory) -> Cell:
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
            _with_limits(frame_grid(f"stage-{name}", result.shown(), "every measure of this stage"), report),
        ]
    else:
        blocks += [Words(getattr(result, "notes", ()), "quiet"), frame_grid(f"stage-{name}", result.frame, "every move", "move")]
    return Section(f"stage-{name}".replace(" ", "-"), f"Stage {name}", _shown(blocks), True, name)


STAGE_LIMITS = {
    "screen": {"missing_share": "--missing-share", "top_share": "--top-share", "relative_spread": "--relative-spread"},
    "overlap": {"vif": "--vif-limit", "strongest_r": "--pair-limit"},
    "importance": {"importance": "--above"},
}
"""What a limit of a column is on the command line, by stage."""


def _with_limits(grid: Grid, report: StageReport) -> Grid:
    """The table with a choice of limits, one for every column that ranks."""
    result = report.result
    assert isinstance(result, Findings)
    limits = []
    for column, way in result.better.items():
        heading = column.replace("_", " ")
        if heading not in grid.headers:
            continue
        option = STAGE_LIMITS.get(report.stage.use, {}).get(column, "")
        if report.stage.use == "relevance":
            option = f"--by {column} {'--below' if way == 'lower' else '--above'}"
        limits.append(Limit(list(grid.headers).index(heading), heading, way, NEUTRAL.get(column, 0.0), option))
    first = result.lead.replace("_", " ")
    return replace(grid, limits=sorted(limits, key=lambda c: c.label != first))


def _figures(report: StageReport) -> list[Picture | None]:
    result: Any = report.result
    use = report.stage.use
    if use == "relevance":
        return [picture(lambda: plots.relevance_bars(result), f"The first features by {result.lead.replace('_', ' ')}, as bars.")]
    if use == "importance":
        return [picture(lambda: plots.importance_bars(result), "The first features by importance, as bars with their spread over folds.")]
    if use == "overlap" and "matrix" in result.more:
        return [
            picture(lambda: plots.correlation_map(result), "Correlations of features with a near-duplicate, in the order of their tree.")
        ]
    return []


def _settings_section(run: Run) -> Section:
    plan, notes = run.selection.plan, [*run.table.roles_text, *run.table.notes]
    given = [f"{len(run.table):,} rows of {run.table.label}, {len(run.table.features)} candidate features for {run.table.target.name}."]
    held = run.selection.holdout
    if held.count:
        times = "once" if held.reads == 1 else f"{held.reads} times"
        given.append(f"{held.count:,} rows are the holdout ({held.how}), set aside before any analysis and read {times}.")
    from chaff.decide.plan import plan_from

    text = plan_from(plan).to_toml()
    return Section("asked", "Settings", [Words(given), Words(notes, "quiet"), Code(text, "the plan")], True, "Settings")
