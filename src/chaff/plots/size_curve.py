"""Score against number of features, with the best and the chosen size marked."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.metrics import METRICS
from chaff.plots.palette import DROP, INK, KEEP, PAPER, QUIET, SECOND, dress, new_axes
from chaff.results.trail import SizeRule, Trail


def score_by_size(trail: Trail, ax: Any = None, rule: SizeRule | None = None, unit: str = "") -> Any:
    """Draw a trail's best score for each size.

    Parameters
    ----------
    trail : Trail
        From `run.result("search")`. Where sizes were chosen by searches run anew inside each fold, those scores are drawn and
        the search's own ones pale behind.
    ax : matplotlib Axes, optional
        Where to draw; a figure of its own when left out.
    rule : SizeRule, optional
        How the size was chosen.
    unit : str
        Unit of the target, for metrics that have it.

    Returns
    -------
    matplotlib Axes

    Examples
    --------
    >>> import chaff
    >>> run = chaff.select(chaff.demo.table(rows=200), plan=chaff.Plan((chaff.Screen(), chaff.Search())))
    >>> chaff.plots.score_by_size(run.result("search")).get_xlabel()
    'number of features'
    """
    rule = rule or getattr(trail, "rule", None) or SizeRule()
    shown: Trail = getattr(trail, "decided", None) or trail
    ax = new_axes() if ax is None else ax
    metric = METRICS[shown.metric]
    by_size = shown.best_by_size()
    sizes, moves = np.array(list(by_size)), list(by_size.values())
    mean = shown.means[moves]
    se = shown.frame["score_se"].to_numpy()[moves]
    if shown is not trail and shown.metric == trail.metric:
        _own_folds(ax, trail)
    ax.fill_between(sizes, mean - se, mean + se, color=KEEP, alpha=0.13, linewidth=0)
    ax.plot(sizes, mean, color=KEEP, linewidth=2.0, marker="o", markersize=3.5)
    chosen, best = shown.chosen_move(rule), shown.best_move()
    if best != chosen:
        _mark(ax, shown, best, "best", SECOND, PAPER, 0.05)
    _mark(ax, shown, chosen, "chosen" if best != chosen else "chosen, and best", KEEP, KEEP, 0.11)
    label = metric.label + (f" ({unit})" if metric.unit_of_target and unit else "")
    title = f"The search keeps {len(shown.moves[chosen].features)} of {len(trail.offered)} features: the smallest set {rule}"
    dress(ax, title, "number of features", f"{label}, mean ± standard error")
    if shown.notes:
        ax.text(0, 1.015, shown.notes[0], transform=ax.transAxes, fontsize=10, color=QUIET, va="bottom")
        ax.set_title(title, loc="left", color=INK, fontsize=13, fontweight="bold", pad=26)
    ax.set_xlim(0, max(sizes.max(), 1) + 1)
    return ax


def _own_folds(ax: Any, trail: Trail) -> None:
    """The search's scores on the folds it searched on: pale, and named for what they are."""
    by_size = trail.best_by_size()
    sizes, mean = np.array(list(by_size)), trail.means[list(by_size.values())]
    ax.plot(sizes, mean, color=DROP, linewidth=1.6, linestyle=(0, (4, 2)))
    middle = int(0.62 * (len(sizes) - 1))
    sign = 1 if trail.higher_is_better else -1
    ax.annotate(
        "the same folds that were searched on: optimistic",
        (sizes[middle], mean[middle]),
        xytext=(0, 13 * sign),
        textcoords="offset points",
        ha="center",
        va="center",
        color=QUIET,
        fontsize=10,
    )


def _mark(ax: Any, trail: Trail, move: int, word: str, edge: str, face: str, height: float) -> None:
    """A ring on the curve, a line down to the axis, and a label beside the line, clear of the curve."""
    x, y = len(trail.moves[move].features), trail.means[move]
    ax.plot([x], [y], marker="o", markersize=11, markerfacecolor=face, markeredgecolor=edge, markeredgewidth=2.2, zorder=5)
    ax.axvline(x, color=edge, linewidth=1.2, linestyle=(0, (2, 2)), zorder=1)
    largest = max(len(m.features) for m in trail.moves)
    right = x < 0.6 * largest
    ax.annotate(
        f"{word}: {x} features, {y:.3f}",
        (x, height),
        xycoords=("data", "axes fraction"),
        xytext=(8 if right else -8, 0),
        textcoords="offset points",
        ha="left" if right else "right",
        color=edge,
        fontsize=11,
        fontweight="bold",
        zorder=6,
    )
