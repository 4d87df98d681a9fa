"""Honest score against number of features, a curve for every lens, with the best and the chosen size marked."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.metrics import METRICS
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, KEEP, PAPER, SECOND, band, dress, level, mark_size, subtitle
from chaff.results.trail import Trail

if TYPE_CHECKING:
    from chaff.arrays import Floats
    from chaff.methods.search.size_choice import SizeCurve
    from chaff.methods.search.stage import SelectionSearch


@drawn_on("ax")
def score_by_size(trail: SelectionSearch, unit: str = "", *, ax: Any = None) -> None:
    """Draw the honest score of each size through every lens that was looked through.

    Parameters
    ----------
    trail : SelectionSearch
        From `run.result("search")`: for each size the search was rerun inside each fold, its set scored on the test rows.
    unit : str
        Unit of the target, for metrics that have it.

    Examples
    --------
    >>> import chaff
    >>> plan = chaff.Plan((chaff.Screen(), chaff.Search(model="ridge")))
    >>> run = chaff.select(chaff.demo.table(rows=200), plan=plan)
    >>> chaff.plots.score_by_size(run.result("search")).get_xlabel()
    'number of features'
    """
    if not isinstance(trail, Trail) or not hasattr(trail, "curves"):
        from chaff.errors import UsageError

        raise UsageError("score_by_size draws what a search decided: pass run.result('search')")
    metric = METRICS[trail.metric]
    deciding = trail.decided
    for curve in trail.best_curves():
        if curve.label != deciding.label:
            _band(ax, curve, curve.errors(trail.data), SECOND, (0, (4, 2)))
    _band(ax, deciding, deciding.errors(trail.data), KEEP, "solid")
    _floor(ax, trail)
    chosen, best = trail.choice.place, trail.choice.best
    up, most = metric.higher_is_better, max(deciding.sizes)  # labels on the side of the poor scores
    means = deciding.values.mean(1)
    if best != chosen:
        mark_size(ax, deciding.sizes[best], float(means[best]), "best", DROP, PAPER, 0.10 if up else 0.89, most)
    word = "chosen" if best != chosen else "chosen, and best"
    mark_size(ax, deciding.sizes[chosen], float(means[chosen]), word, KEEP, KEEP, 0.16 if up else 0.95, most)
    label = metric.label + (f" ({unit})" if metric.unit_of_target and unit else "")
    dress(ax, _title(trail), "number of features", f"CV {label}, mean ± SE")
    subtitle(ax, _title(trail), trail.notes[0] if trail.notes else "")
    ax.xaxis.get_major_locator().set_params(integer=True)
    most = max(max(c.sizes) for c in trail.best_curves())
    ax.set_xlim(-0.02 * most, max(most, 1) * 1.02 + 0.5)


def _title(trail: SelectionSearch) -> str:
    if trail.choice.nothing:
        return "No set beats the baseline: no feature is kept"
    n, of = trail.decided.sizes[trail.choice.place], len(trail.offered)
    more = f", {len(trail.added)} more for the second model" if trail.added else ""
    return f"The search keeps {n} of {of} features with the {trail.decided.label} model{more}"


def _band(ax: Any, curve: SizeCurve, se: Floats, colour: str, style: Any) -> None:
    """A curve with its error, named at its right end."""
    sizes, mean = np.array(curve.sizes), curve.values.mean(1)
    band(ax, sizes, mean, se, colour, style)
    ax.annotate(
        curve.label,
        (sizes[-1], mean[-1]),
        xytext=(-4, 8),
        textcoords="offset points",
        ha="right",
        va="bottom",
        color=colour,
        fontsize=11,
        fontweight="bold",
    )


def _floor(ax: Any, trail: SelectionSearch) -> None:
    """What baseline scores, and no view of the depths that one bad size may reach."""
    nothing = float(trail.data.none.values.mean())
    level(ax, nothing, "baseline")
    curves = trail.best_curves()
    if not any(0 in c.sizes for c in curves):
        return
    sign = trail.data.sign
    tops = [float((sign * c.values.mean(1)).max()) for c in curves]
    span = max(max(tops) - sign * nothing, 0.02 * max(abs(nothing), 1e-12), 1e-9)
    far, near = sign * (sign * nothing - 0.6 * span), sign * (max(tops) + 0.18 * span)
    lowest = min(float((sign * c.values.mean(1)).min()) for c in curves)
    if lowest < sign * far and not trail.choice.nothing:
        ax.set_ylim(*sorted((far, near)))
