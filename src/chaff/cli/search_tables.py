"""A search as terminal tables: score by size, what was chosen, searches side by side, alternatives."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any

from chaff.cli.console import KEEP, QUIET, Show, few_sizes
from chaff.cli.tables import count, grid, notes, rest, title
from chaff.results.digits import figure, score
from chaff.results.shown import Cell, Styled
from chaff.visible import listed, visible

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.methods.search.alternatives import Alternatives
    from chaff.methods.search.choice_rules import Chosen
    from chaff.methods.search.runs import Runs
    from chaff.methods.search.search_result import SearchResult
    from chaff.methods.search.strategy import Progress


CRITERIA = {"adjusted_r2": "adjusted R²", "aic": "AIC", "bic": "BIC"}
HEAD_FEATURES, HEAD_SETS = 20, 6
ROLE_STYLES = {"in all": "keep", "interchangeable": "review", "in none": "drop"}


def show_sizes(show: Show, trail: SearchResult, chosen: Chosen, everything: bool) -> None:
    """The best set of each size: what the search saw, what is honest, what comes and goes."""
    frame = trail.sizes
    title(show, f"{trail.strategy.name} search, {trail.scorer.model.label}: {count(len(trail.moves), 'step')}, {search_summary(trail)}")
    label = trail.scorer.metric.label
    extra = [c for c in ("cost", "adjusted_r2", "aic", "bic") if c in frame.columns]
    rows: list[tuple[Any, ...]] = []
    takes_away = all(m.action in ("start", "remove") for m in trail.moves)
    frame = frame.iloc[::-1] if takes_away else frame  # in the order of the search
    before: set[str] | None = None
    for size, r in frame.iterrows():
        here = set(r["features"])
        went = sorted(before - here) if before is not None else []
        before = here
        honest = f"{score(r['honest'])} ± {score(r['honest_se'])}" if "honest" in frame.columns else ""
        mark = "chosen" if r["features"] == chosen.features else ""
        own = [figure(r[c], 4) for c in extra]
        rows.append(
            (
                str(size),
                f"{score(r['seen'])} ± {score(r['seen_se'])}",
                honest,
                mark,
                *([listed(went, 3)] if takes_away else _changes(r)),
                *own,
            )
        )
    sizes = list(frame.index)
    at = sizes.index(len(chosen.features))
    shown = rows if everything else few_sizes(rows, at, at)
    cells: list[list[Cell]] = [[Styled(c, "keep" if row[3] else "") for c in row] for row in shown]
    head = [
        "size",
        f"search {label}",
        f"CV {label}",
        "mark",
        *(["removed"] if takes_away else ["added", "removed"]),
        *[CRITERIA.get(c, c) for c in extra],
    ]
    keep = [k for k, name in enumerate(head) if not name.startswith("CV ") or "honest" in frame.columns]
    grid(
        show,
        [head[k] for k in keep],
        [[r[k] for k in keep] for r in cells],
        required=("size", f"search {label}", f"CV {label}", "mark", "removed" if takes_away else "added"),
        names=0,
    )
    if len(shown) < len(rows):
        show.note(f"{len(shown)} of {len(rows)} sizes; --all lists them")
    notes(show, trail.notes)


def _changes(row: Any) -> tuple[str, str]:
    def short(names: tuple[str, ...]) -> str:
        return listed(names, 3)

    return short(row["comes"]), short(row["goes"])


def search_summary(trail: SearchResult) -> str:
    """`1,204 sets scored, 31 from cache, 2.4 s`."""
    return f"{count(trail.evaluations, 'set')} scored, {trail.saved:,} from cache, {trail.seconds:.1f} s"


def show_chosen(show: Show, trail: SearchResult, chosen: Chosen) -> None:
    n, label = len(chosen.features), trail.scorer.metric.label
    show.say()
    cost = f", costs {figure(chosen.cost)}" if trail.scorer.prices else ""
    show.say(f" {count(n, 'feature')}{cost}: {', '.join(chosen.features)}", f"bold {KEEP}")
    honest = f"; CV {label} {score(chosen.honest)} ± {score(chosen.honest_se)}" if chosen.honest == chosen.honest else ""
    show.say(f" {chosen.rule}; search {label} {score(chosen.seen)} ± {score(chosen.seen_se)}{honest} (± SE)", QUIET)


def show_runs(show: Show, result: Runs) -> None:
    title(show, f"{len(result.frame)} searches side by side")
    rows = []
    for name, r in result.frame.iterrows():
        honest = f"{score(r['honest'])} ± {score(r['honest_se'])}" if r["honest"] == r["honest"] else ""
        seen = f"{score(r['seen'])} ± {score(r['seen_se'])}"
        what = f"{r['strategy']}{' (' + r['settings'] + ')' if r['settings'] else ''}"
        rows.append([str(name), r["model"], what, str(r["size"]), seen, honest, figure(r["evaluations"]), f"{r['seconds']:.1f}"])
    head = ["search", "model", "strategy", "size", "search score", "CV score", "sets scored", "seconds"]
    subset = [k for k, name in enumerate(head) if name != "CV score" or result.frame["honest"].notna().any()]
    grid(show, [head[k] for k in subset], [[r[k] for k in subset] for r in rows], required=("search", "size", "search score"), names=3)
    pairs = [
        [f"{r['first']} and {r['second']}", str(r["both"]), str(r["only_first"]), str(r["only_second"]), f"{r['alike']:.0%}"]
        for _, r in result.shared.iterrows()
    ]
    title(show, "Overlap of the selected sets")
    grid(show, ["searches", "in both", "only in the first", "only in the second", "Jaccard"], pairs, names=1)
    notes(show, result.notes)


def show_alternatives(show: Show, result: Alternatives, now: tuple[str, ...], everything: bool) -> None:
    title(show, result.headline)
    if not len(result.sets):
        notes(show, result.notes[:1])
        return
    frame = result.frame
    known = frame[frame["role"] != "in none"]
    subset = frame if everything else known.head(HEAD_FEATURES)
    rows: list[list[Cell]] = [
        [Styled(r["role"], ROLE_STYLES[r["role"]]), str(f), f"{r['share']:.0%}", r["instead"]] for f, r in subset.iterrows()
    ]
    grid(show, ["role", "feature", "share of sets", "interchangeable with"], rows, required=("role", "feature", "share of sets"), names=2)
    none = [str(f) for f in frame.index if frame.loc[f, "role"] == "in none"]
    if none and not everything:
        show.note(f"in none: {', '.join(none[:8])}{f' and {len(none) - 8} more' if len(none) > 8 else ''}")
    rest(show, len(subset), len(known) if not everything else len(subset))
    notes(show, result.notes[:1])
    show.say(f" smallest: {', '.join(result.smallest)}")
    if "cost" in result.sets.columns:
        show.say(f" cheapest: {', '.join(result.cheapest)}")
    if now:
        change = " and ".join(
            [*([f"{', '.join(result.comes)} come"] if result.comes else []), *([f"{', '.join(result.goes)} go"] if result.goes else [])]
        )
        show.say(f" nearest to yours: {', '.join(result.nearest)} ({change or 'yours is one of them'})")
    notes(show, result.notes[2:])


EVERY, EVERY_PIPED = 0.1, 10.0  # seconds
WIDE = 18


class SearchBar:
    """Watches a search for a `Show`."""

    def __init__(self, show: Show) -> None:
        self.show = show
        self._last = 0.0
        self._phase = ""

    def __call__(self, progress: Progress) -> None:
        now, fresh = time.monotonic(), progress.phase != self._phase
        live = self.show.progress.is_terminal
        if not fresh and now - self._last < (EVERY if live else EVERY_PIPED):
            return
        self._last, self._phase = now, progress.phase
        if live:
            self.show.moving(f"{bar(progress)} {progress}")
        else:
            self.show.progress.print(visible(f"{self.show.seconds()}  {progress}"), markup=False, soft_wrap=True)


def bar(progress: Progress) -> str:
    """`━━━━━━────────────` by what is left of the time; nothing where that cannot be known."""
    if progress.left is None:
        return ""
    share = progress.seconds / max(progress.seconds + progress.left, 1e-9)
    done = round(WIDE * min(share, 1.0))
    return "━" * done + "─" * (WIDE - done)
