"""A run in words and cells, for whoever prints it."""

from __future__ import annotations

from chaff.decide.closing import Closing, Column
from chaff.decide.judging import StageReport
from chaff.methods.search.stage import SearchTrail
from chaff.results.digits import score
from chaff.results.findings import Findings


def closing_rows(closing: Closing) -> list[tuple[str, ...]]:
    """Head and three rows: full set, kept, none. The metric that decides on folds, all of them on the holdout."""
    shown = [*closing.on("folds"), *_holdout_columns(closing)]
    head = ("", "features", *(_title(c, closing) for c in shown))
    full = ("full set", f"{len(closing.full)}", *(_cell(c, "full") for c in shown))
    kept = ("kept", f"{len(closing.kept)}", *(_cell(c, "kept") for c in shown))
    none = ("none", "0", *(score(c.none) for c in shown))
    return [head, full, kept, none]


def closing_warnings(closing: Closing) -> list[str]:
    """Where the kept set does not keep up: worse than the full one by more than one paired standard error on the folds, or
    no better than predicting nothing on the holdout."""
    out = []
    for c in closing.columns:
        sign = 1.0 if c.metric.higher_is_better else -1.0
        if c.where == "folds" and sign * c.gap.mean < -c.gap.se:
            gap = f"{score(abs(c.gap.mean))} ± {score(c.gap.se)}"
            out.append(f"{c.model}: the kept set is worse than the full one by {gap} ({c.metric.label}, folds)")
        if c.where == "holdout" and sign * (c.kept.mean - c.none) < 0:
            scores = f"{score(c.kept.mean)} against {score(c.none)}"
            out.append(f"{c.model}: on the holdout the kept set is worse than predicting none ({c.metric.label} {scores})")
    return out


def _holdout_columns(closing: Closing) -> list[Column]:
    """Every model's own metric, and the second metric of the last model."""
    columns = closing.on("holdout")
    first: dict[str, Column] = {}
    for c in columns:
        first.setdefault(c.model, c)
    last = columns[-1:] if columns and columns[-1] is not first.get(columns[-1].model) else ()
    return [*first.values(), *last]


def _title(column: Column, closing: Closing) -> str:
    where = closing.folds.split(" by ")[0].split(" in ")[0].split(" strat")[0] if column.where == "folds" else "holdout"
    return f"{column.model}, {column.metric.label}, {where}"


def _cell(column: Column, which: str) -> str:
    got = getattr(column, which)
    if column.where == "holdout":
        return score(got.mean)
    return f"{score(got.mean)} ± {score(got.se) or '?'}"


def stage_line(report: StageReport) -> tuple[str, str]:
    """("57 → 50", "6 set aside, 3 to look at") of one stage."""
    before, after = len(report.offered), len(report.kept)
    count = f"{before} → {after}" if before != after else f"{before}"
    parts = []
    if isinstance(report.result, Findings) and "beyond_chance" in report.result.frame:
        parts.append(f"{int(report.result.frame['beyond_chance'].sum())} beyond chance")
    if isinstance(report.result, SearchTrail):
        trail = report.result.decided or report.result
        best = len(trail.moves[trail.best_move()].features)
        chosen = len(trail.moves[trail.chosen_move(report.result.rule)].features)
        parts.append(f"{chosen} chosen, {report.result.rule} ({best})")
    elif report.set_aside:
        parts.append(f"{len(report.set_aside)} set aside")
    barred = sum(v.barred for v in report.to_look_at)
    if barred:
        parts.append(f"{barred} barred")
    if len(report.to_look_at) > barred:
        parts.append(f"{len(report.to_look_at) - barred} to look at")
    if not parts:
        parts.append("nothing to set aside")
    if before == after and not report.set_aside and getattr(report.stage, "cut", "") is None:
        parts.append("measured, nothing dropped")
        parts = [p for p in parts if p != "nothing to set aside"]
    return count, ", ".join(parts)
