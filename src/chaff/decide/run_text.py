"""The text and the tables of a run, for the terminal, the notebook and the report."""

from __future__ import annotations

from collections.abc import Sequence

from chaff.decide.final_scores import FinalScores, Gap, Line, Scored
from chaff.decide.run_parts import RunParts
from chaff.decide.stage_report import StageReport
from chaff.methods.search.size_choice import ALLOWANCE
from chaff.methods.search.stage import SelectionSearch
from chaff.results.digits import places_for, score, signed, with_error
from chaff.results.findings import Findings
from chaff.stats.paired_loss import KeepUp
from chaff.table.repeated_rows import repeated_rows
from chaff.visible import listed

FEW_HELD = 30
OFTEN_READ = 3


def score_rows(final_scores: FinalScores) -> list[tuple[str, ...]]:
    """Head; all columns offered, full, what stages between left, kept, nothing; kept less full."""
    has_holdout, has_other, has_beside = final_scores.holdout_rows > 0, bool(final_scores.other), final_scores.beside is not None
    where = "honest" if final_scores.honest is not None else "CV"
    head = ["", "features", f"{where} {final_scores.metric.label} ({final_scores.model})"]
    if has_holdout:
        head.append(f"holdout {final_scores.metric.label} ({final_scores.holdout_rows:,} rows)")
    if has_beside and final_scores.beside is not None:
        head.append(f"CV {final_scores.beside.label} ({final_scores.model})")
    if has_other:
        head.append(f"CV {final_scores.metric.label} ({final_scores.other})")
    rows = [tuple(head)]
    shown = _shown(final_scores)
    honest, holdout = (_column([getattr(line, which) for line in shown]) for which in ("honest", "holdout"))
    for k, line in enumerate(shown):
        cells = [_name(line), f"{len(line.features)}", honest[k]]
        cells += [holdout[k]] if has_holdout else []
        cells += [score(line.beside.mean)] if has_beside else []
        cells += [score(line.other.mean)] if has_other else []
        rows.append(tuple(cells))
    if final_scores.honest is not None and final_scores.honest_gap is not None:
        gap = ["kept − full", "", gap_words(final_scores.honest_gap)]
        gap += [gap_words(final_scores.holdout_gap)] if has_holdout else []
        gap += [""] if has_beside else []
        gap += [""] if has_other else []
        rows.append(tuple(gap))
    return rows


def _shown(final_scores: FinalScores) -> list[Line]:
    lines = list(final_scores.lines)
    if set(lines[0].features) == set(lines[1].features):
        return lines[1:]
    return lines


def _name(line: Line) -> str:
    return {"full": "full, after the screen", "nothing": "baseline"}.get(line.name, line.name)


def _column(scores: list[Scored]) -> list[str]:
    """Scores that are read under each other have the digits that the largest error allows."""
    errors = [s.se for s in scores if s.se > 0]
    places = places_for(max(errors)) if errors else None
    return [with_error(s.mean, s.se, places) for s in scores]


def gap_words(gap: Gap | None) -> str:
    """`+0.00 (−0.01 to +0.02)`."""
    if gap is None or gap.mean != gap.mean:
        return ""
    width = (gap.high - gap.low) / 4
    return f"{signed(gap.mean, width)} ({signed(gap.low, width)} to {signed(gap.high, width)})"


def answer_line(final_scores: FinalScores) -> str:
    """The first line: whether the kept set keeps up."""
    n, total = len(final_scores.kept), len(final_scores.full)
    if final_scores.honest is None:
        return f"kept {n} of {total} features; the honest score was skipped (--quick), so the CV scores are optimistic and no test was made"
    k = final_scores.honest.keep_up
    if not n:
        return f"kept no feature: no set predicts better than the baseline ({keep_up_words(k, final_scores)})"
    return f"kept {n} of {total} features: {keep_up_words(k, final_scores)}"


def keep_up_words(k: KeepUp, final_scores: FinalScores) -> str:
    """`keeps up with the full set (allowance 0.034)`."""
    slope = abs(final_scores.honest.slope) if final_scores.honest is not None else float("nan")
    allowed = k.allowance * slope if slope == slope else k.allowance
    error = k.difference.se * slope if slope == slope else k.difference.se
    limit = (
        (f"allowance {allowed:.{min(6, places_for(error) + 1)}f}, {ALLOWANCE:.0%} of its improvement over the baseline")
        if allowed > 0
        else ""
    )
    if set(final_scores.kept) == set(final_scores.full):
        more = f"; about {_round(final_scores.more_rows):,} more rows could tell" if final_scores.more_rows else ""
        return f"no smaller set keeps up on these rows{more}"
    if k.answer == "keeps up":
        return f"keeps up with the full set{f' ({limit})' if limit else ''}"
    if k.answer == "worse":
        return f"worse than the full set{f' ({limit})' if limit else ''}"
    rows = f"; roughly {_round(k.rows_to_tell):,} rows would tell" if k.rows_to_tell else ""
    return f"cannot tell whether it keeps up with the full set{f' ({limit})' if limit else ''}{rows}"


def _round(rows: int) -> int:
    """Two digits: it is a rough number."""
    size = 10 ** max(len(str(rows)) - 2, 0)
    answer: int = -(-rows // size) * size
    return answer


def score_notes(run: RunParts) -> list[str]:
    """What the table of final scores does not say: the empty set, optimism, the other lens, how stable the set is, the holdout."""
    final_scores, trail = run.final_scores, _search_of(run)
    out = []
    if trail is not None and not final_scores.kept:
        out.append(nothing_words(run, trail))
    honest = final_scores.honest
    if honest is not None and trail is not None and final_scores.kept:
        optimism = f"optimism {score(honest.optimism)}" if honest.optimism > 0.0005 else "no optimism"
        if final_scores.beside is not None or final_scores.other:
            out.append("columns headed CV are plain cross-validation, not honest")
        out.append(f"CV {final_scores.metric.label} at the chosen size {score(honest.seen)}, honest {score(honest.mean)}: {optimism}")
    if trail is not None and trail.choice.place != trail.choice.ruled:
        before, after = trail.decided.sizes[trail.choice.ruled], trail.decided.sizes[trail.choice.place]
        out.append(
            f"the size rule chose {before} features; that set was worse than the full one, so the next size that is not was taken: {after}"
        )
    out += [lens_words(trail)] if trail is not None and final_scores.kept and trail.of_another_lens else []
    out += full_words(final_scores)
    if final_scores.other_keep_up is not None and final_scores.kept and set(final_scores.kept) != set(final_scores.full):
        words = {"keeps up": "the kept set keeps up there too", "worse": "the kept set is worse there", "cannot tell": "cannot tell there"}
        out.append(f"second model ({final_scores.other}): {words[final_scores.other_keep_up.answer]}")
    if trail is not None and final_scores.kept:
        out += passenger_words(trail)
        out += stability_words(trail, final_scores.kept)
    out += [run.row_sample.words] if run.row_sample.words else []
    out += [f"noise features (decoys): {run.decoys}"] if run.decoys is not None else []
    repeated = repeated_rows(run.table).words
    out += [repeated] if repeated else []
    out += holdout_words(run)
    return out


def lens_words(trail: SelectionSearch) -> str:
    """That the smaller set comes from a lens whose best is not the best of all."""
    curve, place = trail.choice.leader
    leader, more, n = trail.curves[curve], trail.behind, len(trail.decided.sets[trail.choice.place])
    ahead = f", mean loss {more.mean:.3g} ± {more.se:.2g} lower" if trail.data.metric.row_loss is not None else ""
    best = f"the {leader.label} model scores best ({leader.sizes[place]} features{ahead})"
    return f"{best}; the {trail.decided.label} set of {n} lies within the bound and is the smallest"


def full_words(final_scores: FinalScores) -> list[str]:
    """Which model speaks for the full set, and whether it beats nothing at all."""
    full, nothing = final_scores.line("full").honest, final_scores.line("nothing").honest
    sign = 1.0 if final_scores.metric.higher_is_better else -1.0
    out = []
    if (
        final_scores.honest is not None
        and final_scores.full_model != final_scores.model
        and set(final_scores.kept) != set(final_scores.full)
    ):
        out.append(f"the full set predicts best with {final_scores.full_model}; the kept set is compared with that")
    if sign * (full.mean - nothing.mean) < 0:
        scores = f"{final_scores.metric.label} {score(full.mean)} against {score(nothing.mean)}"
        out.append(f"all features together predict worse than the baseline ({scores}); an improvement over the full set says little")
    return out


def passenger_words(trail: SelectionSearch) -> list[str]:
    """Columns that went since they repeat one that stays, with what is lost without them."""
    repeats = trail.passengers
    if not repeats:
        return []
    named = [f"{f} ({p.stays})" for f, p in sorted(repeats.items())]
    subset = listed(named, 4)
    one = next(iter(repeats.values()))
    return [
        (
            f"near-duplicates of a kept feature, dropped: {subset}; without them {trail.metric_of.label} "
            f"{signed(one.gain, one.se)} ± {score(one.se)}"
        )
    ]


def nothing_words(run: RunParts, trail: SelectionSearch) -> str:
    """Why the answer is the empty set."""
    target = run.table.target
    than = "its mean" if target.task == "regression" else "the class shares"
    curve, metric = trail.decided, trail.data.metric
    best = max((k for k, s in enumerate(curve.sizes) if s), key=lambda k: trail.data.sign * curve.values[k].mean(), default=0)
    value, error = float(curve.values[best].mean()), float(curve.errors(trail.data)[best])
    name, p = trail.strongest
    single = f", and the best single feature ({name}) has a family-wise p of {p:.2g}" if name and p == p else ""
    return f"no set predicts {target.name} better than {than}: CV {metric.label} {with_error(value, error)} at best{single}"


def stability_words(trail: SelectionSearch, kept: tuple[str, ...]) -> list[str]:
    """In how many outer folds the kept columns were kept, and which stand in for each other."""
    searched = [f for f in kept if f not in trail.added]  # what the other lens adds is not added again in each fold
    shares = {f: trail.honest_losses.selection_frequency(f) for f in searched}
    sure = [f for f in searched if shares[f] >= 0.9]
    shaky = [f"{f} ({shares[f]:.0%})" for f in searched if shares[f] < 0.5]
    out = [
        f"{len(sure)} of {len(searched)} kept features were selected in at least 90 % of the folds"
        + (f"; in fewer than half: {', '.join(shaky)}" if shaky else "")
    ]
    pairs = trail.interchangeable()
    if pairs:
        shown = "; ".join(f"{a} or {b}" for a, b in pairs[:4])
        out.append(f"interchangeable: {shown}" + (f" and {len(pairs) - 4} more pairs" if len(pairs) > 4 else ""))
    return out


def holdout_words(run: RunParts) -> list[str]:
    final_scores, reads = run.final_scores, run.ledger.holdout_reads
    if not final_scores.holdout_rows:
        return []
    out = [
        f"the holdout has been read {'once' if reads == 1 else f'{reads} times'}"
        + (": each further read makes its score less reliable" if reads >= OFTEN_READ else "")
        + ("" if run.selection.holdout.counted else " by this run; earlier runs are not counted")
    ]
    after = run.selection.holdout.pinned_after
    if after:
        out.append(f"pinned after the holdout had been read: {', '.join(after)}; the holdout score is no evidence for these pins")
    if final_scores.holdout_rows < FEW_HELD:
        out.append(f"{final_scores.holdout_rows} holdout rows: too few for a precise score")
    if final_scores.holdout_repeats:
        out.append(f"{final_scores.holdout_repeats:,} holdout rows repeat a training row, so the holdout score is optimistic")
    return out


def final_warnings(run: RunParts) -> list[str]:
    """What the user must not overlook."""
    final_scores, trail = run.final_scores, _search_of(run)
    out = []
    if trail is not None and trail.added and final_scores.honest is not None:
        before, after = len(final_scores.kept) - len(trail.added), len(final_scores.kept)
        out.append(
            f"the honest score is that of the {before}-feature set; added for the second model: "
            f"{', '.join(sorted(trail.added))}, and the {after}-feature set has no honest score"
        )
    if final_scores.honest is not None and final_scores.honest.keep_up.answer == "worse":
        out.append("the kept set is worse than the full one by the honest score")
    kept, nothing = final_scores.line("kept").holdout, final_scores.line("nothing").holdout
    sign = 1.0 if final_scores.metric.higher_is_better else -1.0
    if final_scores.kept and kept.mean == kept.mean and sign * (kept.mean - nothing.mean) < 0:
        scores = f"{score(kept.mean)} against {score(nothing.mean)}"
        out.append(f"on the holdout the kept set is worse than the baseline ({final_scores.metric.label} {scores})")
    return out


def _search_of(run: RunParts) -> SelectionSearch | None:
    last = run.stages[-1].result
    return last if isinstance(last, SelectionSearch) else None


def curve_rows(trail: SelectionSearch) -> list[tuple[str, ...]]:
    """The deciding curve: size, honest score, which column came or went."""
    frame = trail.decided.frame(trail.data)
    places = list(frame.index)
    chosen, best = trail.decided.sizes[trail.choice.place], trail.decided.sizes[trail.choice.best]
    head = ("size", f"CV {trail.metric_of.label} (± SE)", "mark", "added", "removed")
    rows: list[tuple[str, ...]] = [head]
    for size in places:
        line = frame.loc[size]
        mark = " and ".join(w for w, at in (("chosen", chosen), ("best", best)) if at == size)
        rows.append((f"{size}", with_error(line["score"], line["score_se"]), mark, *(_short(line[k]) for k in ("comes", "goes"))))
    return rows


def _short(names: Sequence[str]) -> str:
    """Three names, or two and how many more: what fits a cell."""
    return listed(names, 3 if len(names) == 3 else 2)


def stage_line(report: StageReport) -> tuple[str, str]:
    """("57 → 50", "6 set aside, 3 to look at") of one stage."""
    before, after = len(report.offered), len(report.kept)
    count = f"{before} → {after}" if before != after else f"{before}"
    parts = []
    if isinstance(report.result, Findings) and "significant" in report.result.frame:
        parts.append(f"{int(report.result.frame['significant'].sum())} significant")
    if isinstance(report.result, SelectionSearch):
        trail = report.result
        sizes = trail.decided.sizes
        parts.append(
            "no set beats the baseline"
            if trail.choice.nothing
            else (f"{len(trail.chosen)} selected with the {trail.decided.label} model: {trail.rule}; best at {sizes[trail.choice.best]}")
        )
    elif report.set_aside:
        parts.append(f"{len(report.set_aside)} dropped")
    blocked = sum(v.blocked for v in report.to_review)
    if blocked:
        parts.append(f"{blocked} blocked")
    if len(report.to_review) > blocked:
        parts.append(f"{len(report.to_review) - blocked} to review")
    if not parts:
        parts.append("nothing to drop")
    if before == after and not report.set_aside and getattr(report.stage, "cut", "") is None:
        parts.append("measured, nothing dropped")
        parts = [p for p in parts if p != "nothing to drop"]
    return count, ", ".join(parts)
