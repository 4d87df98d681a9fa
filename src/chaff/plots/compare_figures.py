"""Figures of a comparison: score by size of every method, and which method keeps which feature."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import UsageError
from chaff.metrics import METRICS
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, GRID, INK, KEEP, PAPER, REVIEW, SECOND, dress, level, subtitle

if TYPE_CHECKING:
    from chaff.methods.comparing.comparison import Comparison

STYLES: tuple[Any, ...] = ("solid", (0, (4, 2)), (0, (1, 1.5)))
LINES = [(colour, style) for style in STYLES for colour in (KEEP, SECOND, REVIEW, INK)]
MOST_ROWS = 32
BAND = 0.2  # of all the bands beside the best one: together no darker than that, so that the lines are read


@drawn_on("ax")
def compared_curves(result: Comparison, *, ax: Any = None) -> None:
    """Score against number of features, a line a method, on the same folds; random sets, all features and nothing beside them.

    Parameters
    ----------
    result : Comparison
        From `chaff.compare`.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct"])
    >>> chaff.plots.compared_curves(chaff.compare(lots, ["leading", "forward"])).get_xlabel()
    'number of features'
    """
    _checked(result, "compared_curves")
    from chaff.methods.comparing.comparison import RANDOM

    metric, curves = METRICS[result.scorer.metric.name], result.curves
    order = sorted(result.methods, key=lambda m: (-result.sign * np.nan_to_num(result.frame.loc[m, "best"], nan=-np.inf * result.sign), m))
    for k, m in enumerate(order):
        line = curves.loc[m]
        colour, style = LINES[k % len(LINES)]
        ax.plot(line.index, line["score"], color=colour, linestyle=style, linewidth=2.0 if k < 4 else 1.5, label=m)
        low, high = line["score"] - line["score_se"], line["score"] + line["score_se"]
        ax.fill_between(line.index, low, high, color=colour, alpha=0.14 if k == 0 else BAND / max(len(order) - 1, 1), linewidth=0)
    chance = curves.loc[RANDOM]
    ax.plot(chance.index, chance["score"], color=DROP, linewidth=1.6, label=RANDOM)
    for word, value in (("all features", result.yardsticks["all features"]), ("baseline", result.yardsticks["nothing"])):
        level(ax, float(np.nanmean(value)), word, (0, (6, 3)) if word == "all features" else "solid", above=word == "all features")
    title = f"{len(result.methods)} methods, each fitted inside every fold, scored with {result.scorer.model.label}"
    dress(ax, title, "number of features", f"{metric.label}, mean over folds (bands: ± standard error)")
    subtitle(ax, title, result.notes[0].split(";")[0])
    place = (1.0, 0.04) if metric.higher_is_better else (1.0, 0.96)
    corner = "lower right" if metric.higher_is_better else "upper right"
    ax.legend(loc=corner, bbox_to_anchor=place, fontsize=9, ncols=2, labelcolor=INK, facecolor=PAPER, edgecolor="none", framealpha=0.9)
    _view(ax, result)
    ax.xaxis.get_major_locator().set_params(integer=True)


def _view(ax: Any, result: Comparison) -> None:
    """No view of the depths that one bad size may reach."""
    means = [result.sign * np.nanmean(v, axis=1) for v in result.values.values()]
    nothing, full = (result.sign * float(np.nanmean(result.yardsticks[k])) for k in ("nothing", "all features"))
    top = max(max(float(np.nanmax(m)) for m in means), full)
    span = max(top - nothing, 1e-9)
    lowest = min(min(float(np.nanmin(m)) for m in means), nothing, full)
    low, high = max(lowest, nothing - 0.3 * span) - 0.05 * span, top + 0.12 * span
    ax.set_ylim(*sorted((result.sign * low, result.sign * high)))


@drawn_on("ax")
def kept_by_methods(result: Comparison, size: int | None = None, *, ax: Any = None) -> None:
    """Which method keeps which feature: a row a feature, those that most keep on top; a column a method.

    Parameters
    ----------
    result : Comparison
    size : int, optional
        One size for all; each method's own smallest when left out.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct"])
    >>> len(chaff.plots.kept_by_methods(chaff.compare(lots, ["leading", "forward"])).get_xticklabels())
    4
    """
    _checked(result, "kept_by_methods")
    from matplotlib.colors import to_rgb

    kept = result.kept(size)
    subset = kept[kept.any(axis=1)].head(MOST_ROWS)
    picture = np.ones((len(subset), subset.shape[1], 3))
    count = subset.sum(axis=1)
    true = result.truth or frozenset()
    for k, f in enumerate(subset.index):
        picture[k, subset.loc[f].to_numpy()] = to_rgb(KEEP if result.truth is None or f in true else SECOND)
    ax.imshow(picture, aspect="auto", interpolation="nearest")
    for y in range(len(subset) + 1):
        ax.axhline(y - 0.5, color=GRID, linewidth=0.6)
    for x in range(subset.shape[1] + 1):
        ax.axvline(x - 0.5, color=PAPER, linewidth=2)
    ax.set_yticks(range(len(subset)), [f"{f}  {int(count[f])}" for f in subset.index], fontsize=10 if len(subset) <= 24 else 8)
    sizes = kept.sum()
    ax.set_xticks(range(subset.shape[1]), [f"{m}\n{int(sizes[m])}" for m in subset.columns], rotation=30, ha="right", fontsize=9)
    title = f"Features selected by {len(result.methods)} methods, " + (f"at {size} features" if size else "each at its chosen size")
    dress(ax, title, "", "")
    ax.grid(False)
    more = int(kept.any(axis=1).sum()) - len(subset)
    truth = "; crust: it does not matter" if result.truth is not None else ""
    subtitle(
        ax, title, f"numbers: methods per feature, features per method{truth}" + (f"; {more} more are kept by some" if more > 0 else "")
    )


def _checked(result: Any, name: str) -> None:
    if not hasattr(result, "yardsticks"):
        raise UsageError(f"{name} draws what chaff.compare gave")
