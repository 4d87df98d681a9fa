"""Score against number of features, with the best and the chosen size marked."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.metrics import METRICS
from chaff.plots.palette import DROP, INK, KEEP, PAPER, SECOND, dress, new_axes
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
        own = trail.best_by_size()
        own_mean = trail.means[list(own.values())]
        ax.plot(list(own), own_mean, color=DROP, linewidth=1.4, linestyle=(0, (4, 2)))
        ax.annotate("the search's own folds (optimistic)", (list(own)[-1], own_mean[-1]), xytext=(0, 8),
                    textcoords="offset points", ha="right", color="#6F6961", fontsize=10)  # fmt: skip
    ax.fill_between(sizes, mean - se, mean + se, color=KEEP, alpha=0.13, linewidth=0)
    ax.plot(sizes, mean, color=KEEP, linewidth=2.0, marker="o", markersize=3.5)
    chosen, best = shown.chosen_move(rule), shown.best_move()
    _mark(ax, shown, best, "best", SECOND, PAPER, above=True)
    _mark(ax, shown, chosen, "chosen", KEEP, KEEP, above=False)
    label = metric.label + (f" ({unit})" if metric.unit_of_target and unit else "")
    title = f"{len(shown.moves[chosen].features)} of {len(trail.offered)} features keep up: smallest set {rule}"
    how = shown.notes[0] if shown.notes else ""
    dress(ax, title, "number of features", f"{label}, mean ± standard error")
    ax.text(0, 1.012, how, transform=ax.transAxes, fontsize=9.5, color="#6F6961", va="bottom")
    ax.title.set_position((0, 1.06))
    ax.set_xlim(0, max(sizes.max(), 1) + 1)
    return ax


def _mark(ax: Any, trail: Trail, move: int, word: str, edge: str, face: str, above: bool) -> None:
    x, y = len(trail.moves[move].features), trail.means[move]
    ax.plot([x], [y], marker="o", markersize=11, markerfacecolor=face, markeredgecolor=edge, markeredgewidth=2.2, zorder=5)
    if not above:
        ax.axvline(x, color=edge, linewidth=1.0, linestyle=(0, (2, 2)), zorder=1)
    offset = (10, 16) if above else (10, -26)
    ax.annotate(f"{word}: {x} features, {y:.3f}", (x, y), xytext=offset, textcoords="offset points", color=INK,
                fontsize=11, fontweight="bold" if not above else "normal", zorder=6)  # fmt: skip
