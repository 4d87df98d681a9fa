"""Figures of a search: score by size, which sets hold what, generations and front, alternatives, score by cost."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import UsageError
from chaff.metrics import METRICS
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, GRID, KEEP, PAPER, QUIET, REVIEW, SECOND, band, dress, level, mark_size, subtitle

if TYPE_CHECKING:
    from chaff.methods.search.alternatives import Alternatives
    from chaff.methods.search.choice_rules import Chosen
    from chaff.methods.search.search_result import SearchResult

MOST_ROWS, MOST_SETS = 32, 60


@drawn_on("ax")
def search_sizes(trail: SearchResult, chosen: Chosen | None = None, *, ax: Any = None) -> None:
    """Score against size: what the search saw, and what is honest.

    Parameters
    ----------
    trail : SearchResult
        From `chaff.search`.
    chosen : Chosen, optional
        From ``trail.choose(…)``, to be marked.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    >>> trail = chaff.search(lots, "ridge", "forward")
    >>> chaff.plots.search_sizes(trail, trail.choose("best")).get_xlabel()
    'number of features'
    """
    frame = _trail(trail, "search_sizes").sizes
    label = METRICS[trail.metric].label
    sizes = frame.index.to_numpy(float)
    has = "honest" in frame.columns
    seen = (SECOND, (0, (4, 2))) if has else (KEEP, "solid")
    band(ax, sizes, frame["seen"].to_numpy(), frame["seen_se"].to_numpy(), *seen)
    if has:
        band(ax, sizes, frame["honest"].to_numpy(), frame["honest_se"].to_numpy(), KEEP, "solid")
    level(ax, trail.nothing.mean, "baseline")
    _name_lines(ax, trail, frame, has)
    if chosen is not None:
        y = chosen.honest if chosen.honest == chosen.honest else chosen.seen
        up = METRICS[trail.metric].higher_is_better
        mark_size(ax, len(chosen.features), y, "chosen", KEEP, KEEP, 0.12 if up else 0.9, max(trail.by_size))
    title = f"{trail.strategy.name} with {trail.scorer.model.label}"
    if chosen is not None:
        title += f": {len(chosen.features)} of {len(trail.offered)} features"
    dress(ax, title, "number of features", f"{label}, mean ± SE")
    subtitle(ax, title, trail.notes[0] if trail.notes else "")
    ax.xaxis.get_major_locator().set_params(integer=True)


def _name_lines(ax: Any, trail: SearchResult, frame: Any, has: bool) -> None:
    """Each line named at its right end, the better one above."""
    ends = [("search score", float(frame["seen"].iloc[-1]), SECOND if has else KEEP)]
    if has:
        ends.append(("honest", float(frame["honest"].iloc[-1]), KEEP))
    ends.sort(key=lambda e: -e[1])
    for k, (word, y, colour) in enumerate(ends):
        ax.annotate(
            word, (frame.index[-1], y), xytext=(-4, 9 if k == 0 else -9), textcoords="offset points", ha="right",
            va="bottom" if k == 0 else "top", color=colour, fontsize=11, fontweight="bold",
        )  # fmt: skip


@drawn_on("ax")
def set_presence(trail: SearchResult, chosen: Chosen | None = None, *, ax: Any = None) -> None:
    """Which features the best set of each size holds: a column a size, a row a feature, those that come in first on top.

    Parameters
    ----------
    trail : SearchResult
    chosen : Chosen, optional
        Its column is framed.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    >>> chaff.plots.set_presence(chaff.search(lots, "ridge", "forward", honest=False)).get_xlabel()
    'number of features'
    """
    trail = _trail(trail, "set_presence")
    sets = [set(trail.features_at(k)) for k in trail.by_size.values()]
    sizes = list(trail.by_size)
    shares = {f: sum(f in s for s in sets) for f in trail.offered}
    names = [f for f in sorted(trail.offered, key=lambda f: (-shares[f], f)) if shares[f]]
    left = len(names) - MOST_ROWS
    names = names[:MOST_ROWS]
    held = np.array([[f in s for s in sets] for f in names], float)
    _cells(ax, held, KEEP)
    _feature_rows(ax, names)
    step = max(1, len(sizes) // 20)
    ax.set_xticks(range(0, len(sizes), step), [str(s) for s in sizes[::step]])
    title = f"Features in the best set of each size: {trail.strategy.name} with {trail.scorer.model.label}"
    dress(ax, title, "number of features", "")
    ax.grid(False)
    if left > 0:
        subtitle(ax, title, f"the {MOST_ROWS} features that are in most; {left} more come in later")
    if chosen is not None and len(chosen.features) in sizes:
        _frame_column(ax, sizes.index(len(chosen.features)), len(names), "chosen")


def _cells(ax: Any, held: Any, colour: str) -> None:
    from matplotlib.colors import ListedColormap

    ax.imshow(held, cmap=ListedColormap([PAPER, colour]), vmin=0, vmax=1, aspect="auto", interpolation="nearest")
    rows, columns = held.shape
    if columns <= MOST_SETS:
        for x in range(columns + 1):
            ax.axvline(x - 0.5, color=GRID, linewidth=0.6)
    for y in range(rows + 1):
        ax.axhline(y - 0.5, color=GRID, linewidth=0.6)


def _feature_rows(ax: Any, names: Sequence[str]) -> None:
    ax.set_yticks(range(len(names)), list(names), fontsize=10 if len(names) <= 24 else 8)


def _frame_column(ax: Any, at: int, rows: int, word: str) -> None:
    from matplotlib.patches import Rectangle

    ax.add_patch(Rectangle((at - 0.5, -0.5), 1, rows, fill=False, edgecolor=SECOND, linewidth=2.2, zorder=4))
    ax.annotate(
        word, (at, rows - 0.5), xytext=(0, -4), textcoords="offset points", ha="center", va="top", color=SECOND, fontsize=10,
        fontweight="bold", annotation_clip=False,
    )  # fmt: skip
    ax.tick_params(axis="x", pad=14)


@drawn_on("figure")
def generations(trail: SearchResult, *, figure: Any = None) -> None:
    """A genetic search, generation by generation: best and mean score, how different its sets are, and its front.

    Parameters
    ----------
    trail : SearchResult
        With the strategy "genetic".

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    >>> trail = chaff.search(lots, "ridge", chaff.Genetic(population=8, generations=4), honest=False)
    >>> len(chaff.plots.generations(trail).axes)
    3
    """
    frame = _trail(trail, "generations").generations
    grid = figure.add_gridspec(2, 2, width_ratios=(3, 2), height_ratios=(3, 2))
    score, different, front = figure.add_subplot(grid[0, 0]), figure.add_subplot(grid[1, 0]), figure.add_subplot(grid[:, 1])
    label, x = METRICS[trail.metric].label, frame.index.to_numpy()
    score.plot(x, frame["best"], color=KEEP, linewidth=2.2)
    score.plot(x, frame["mean"], color=SECOND, linewidth=1.6, linestyle=(0, (4, 2)))
    for word, column, colour in (("best", "best", KEEP), ("mean of those alive", "mean", SECOND)):
        above = (column == "best") == METRICS[trail.metric].higher_is_better
        score.annotate(
            word, (x[-1], frame[column].iloc[-1]), xytext=(-2, 7 if above else -12), textcoords="offset points", ha="right",
            va="bottom" if above else "top", color=colour, fontsize=10, fontweight="bold",
        )  # fmt: skip
    score.margins(y=0.18)
    dress(score, f"Genetic search with {trail.scorer.model.label}", "", f"search {label}")
    different.plot(x, frame["diversity"], color=REVIEW, linewidth=1.8)
    different.set_ylim(0, None)
    dress(different, "", "generation", "share of columns in\nwhich two sets differ")
    _fronts(front, trail, label)


def _fronts(ax: Any, trail: SearchResult, label: str) -> None:
    """The front of the first, a middle and the last generation."""
    numbers = list(trail.generations.index)
    subset = list(dict.fromkeys([numbers[0], numbers[len(numbers) // 4], numbers[-1]]))
    styles = [(DROP, "o"), (SECOND, "s"), (KEEP, "D")][-len(subset) :]
    up = METRICS[trail.metric].higher_is_better
    for k, (number, (colour, marker)) in enumerate(zip(subset, styles, strict=True)):
        points = trail.front(number)
        ax.plot(points.index, points["score"], color=colour, marker=marker, markersize=5, linewidth=1.4)
        ax.annotate(
            f"generation {number}", (0.97, (0.05 if up else 0.85) + 0.05 * k), xycoords="axes fraction", ha="right",
            color=colour if colour != DROP else QUIET, fontsize=10, fontweight="bold",
        )  # fmt: skip
    ax.set_xlim(0, None)
    dress(ax, "Its front of score and size", "number of features", f"search {label}")
    ax.xaxis.get_major_locator().set_params(integer=True)


@drawn_on("ax")
def alternatives_map(result: Alternatives, *, ax: Any = None) -> None:
    """The good sets side by side: a column a set, the best on the left, a row a feature, those in all of them on top.

    Parameters
    ----------
    result : Alternatives
        From ``trail.alternatives()``.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "protein_nir_pct", "ash_pct", "lab_temp_c"])
    >>> found = chaff.search(lots, "ridge", "forward", honest=False).alternatives(within=0.1)
    >>> chaff.plots.alternatives_map(found).get_xlabel()
    'sets, the best on the left'
    """
    if not hasattr(result, "frame") or "role" not in result.frame:
        raise UsageError("alternatives_map draws what trail.alternatives() gave")
    if not len(result.sets):
        raise UsageError("alternatives_map: the baseline is as good as the best set, so there is nothing to draw")
    frame = result.frame
    none = int((frame["role"] == "in none").sum())
    sets = list(result.sets["features"].head(MOST_SETS))
    names = [str(f) for f in frame.index if any(f in s for s in sets)][:MOST_ROWS]
    colours = {"in all": KEEP, "interchangeable": REVIEW}
    _two_colours(ax, np.array([[f in s for s in sets] for f in names], bool), [colours[frame.loc[f, "role"]] for f in names])
    _feature_rows(ax, names)
    for y, f in enumerate(names):
        instead = str(frame.loc[f, "instead"])
        words = str(frame.loc[f, "role"])
        if words == "interchangeable":
            words += f" with {instead}" if instead else " with several together"
        words = words if len(words) <= 46 else words[:45] + "…"
        ax.annotate(
            words, (1.0, y), xycoords=("axes fraction", "data"), xytext=(6, 0), textcoords="offset points", va="center",
            color=colours[frame.loc[f, "role"]], fontsize=9, annotation_clip=False,
        )  # fmt: skip
    shown = f"the best {len(sets)} of {len(result.sets):,}" if len(sets) < len(result.sets) else f"{len(sets)}"
    title = result.headline
    dress(ax, title, "sets, the best on the left", "")
    ax.grid(False)
    ax.set_xticks([])
    subtitle(ax, title, f"{shown} minimal sets within tolerance; {none} features are in none")


def _two_colours(ax: Any, held: Any, colours: Sequence[str]) -> None:
    from matplotlib.colors import to_rgb

    picture = np.ones((*held.shape, 3))
    for k, colour in enumerate(colours):
        picture[k, held[k]] = to_rgb(colour)
    ax.imshow(picture, aspect="auto", interpolation="nearest")
    for y in range(held.shape[0] + 1):
        ax.axhline(y - 0.5, color=GRID, linewidth=0.6)
    for x in range(held.shape[1] + 1):
        ax.axvline(x - 0.5, color=GRID, linewidth=0.6)


@drawn_on("ax")
def score_by_cost(trail: SearchResult, *, ax: Any = None) -> None:
    """Score against what a set costs to measure: every set that the search came through, and those that no other beats in both.

    Parameters
    ----------
    trail : SearchResult
        Of a table with costs.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200, priced=True).with_features(["protein_pct", "ash_pct", "straw_pct"])
    >>> chaff.plots.score_by_cost(chaff.search(lots, "ridge", "exhaustive", honest=False)).get_xlabel()
    'cost of measuring the set'
    """
    front = _trail(trail, "score_by_cost").cost_front
    frame, label = trail.frame, METRICS[trail.metric].label
    ax.plot(frame["cost"], frame["score"], linestyle="none", marker="o", markersize=4, color=DROP, alpha=0.7)
    ax.step(front.index, front["score"], where="post", color=KEEP, linewidth=2)
    ax.plot(front.index, front["score"], linestyle="none", marker="D", markersize=6, color=KEEP)
    for cost, r in front.iterrows():
        ax.annotate(
            str(r["size"]), (cost, r["score"]), xytext=(0, 7), textcoords="offset points", ha="center", color=KEEP, fontsize=9,
            fontweight="bold",
        )  # fmt: skip
    seen = frame["score"].to_numpy()
    low, high = np.quantile(seen, [0.05, 1.0]) if METRICS[trail.metric].higher_is_better else np.quantile(seen, [0.0, 0.95])
    span = max(high - low, 1e-9)
    ax.set_ylim(min(low, front["score"].min()) - 0.08 * span, max(high, front["score"].max()) + 0.16 * span)
    total = trail.scorer.tally.limits.total_cost
    if total is not None:
        ax.axvline(total, color=SECOND, linewidth=1.4, linestyle=(0, (2, 2)))
        ax.annotate("total", (total, 0.02), xycoords=("data", "axes fraction"), xytext=(5, 0), textcoords="offset points", color=SECOND)
    title = f"Score against measuring cost: {trail.strategy.name} with {trail.scorer.model.label}"
    dress(ax, title, "cost of measuring the set", f"search {label}")
    subtitle(ax, title, "diamonds: no cheaper set scores as well (with the number of features); dots: every visited set")


def _trail(trail: Any, name: str) -> SearchResult:
    if not hasattr(trail, "by_size"):
        raise UsageError(f"{name} draws what chaff.search gave")
    result: SearchResult = trail
    return result


def figures_of(trails: Sequence[SearchResult], more: Mapping[str, Any]) -> dict[str, Callable[[], Any]]:
    """Name → what draws it, of everything that there is to draw of some searches; names of the second and later ones have a number."""
    out: dict[str, Callable[[], Any]] = {}
    for k, (trail, chosen) in enumerate(zip(trails, more["chosen"], strict=True), 1):
        tail = "" if len(trails) == 1 else f"_{k}"
        out[f"score_by_size{tail}"] = partial(search_sizes, trail, chosen)
        out[f"sets{tail}"] = partial(set_presence, trail, chosen)
        if trail.strategy.name == "genetic":
            out[f"generations{tail}"] = partial(generations, trail)
        if trail.scorer.prices:
            out[f"score_by_cost{tail}"] = partial(score_by_cost, trail)
    if "alternatives" in more and len(more["alternatives"].sets):
        out["alternatives"] = partial(alternatives_map, more["alternatives"])
    return out
