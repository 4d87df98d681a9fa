"""The leading figure of a result, whatever it is."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from chaff.errors import UsageError
from chaff.plots.chance_figures import DRAWN
from chaff.plots.correlation_map import correlation_map
from chaff.plots.importance_figures import importance_bars
from chaff.plots.inflation import scree, vif_bars, vif_trail
from chaff.plots.relevance_bars import relevance_bars

OF: dict[str, Callable[..., Any]] = {
    **DRAWN,
    "relevance": relevance_bars,
    "importance": importance_bars,
    "correlations": correlation_map,
    "associations": correlation_map,
    "inflation": vif_bars,
    "elimination": vif_trail,
    "components": scree,
}


def figure_of(findings: Any, **settings: Any) -> Any:
    """The leading figure of findings: bars of relevance or importance, the correlation map, VIFs, a test against chance.

    Parameters
    ----------
    findings : Findings
    **settings
        Of the function that draws it, `ax` or `figure` among them.

    Returns
    -------
    matplotlib Axes or Figure

    Raises
    ------
    UsageError
        For findings that no single figure stands for.

    Examples
    --------
    >>> import chaff
    >>> chaff.relevance(chaff.demo.table(rows=100), "leading").plot(bars=5).axes[0].get_xlabel()
    'effect size'
    """
    draw = OF.get(getattr(findings, "method", ""))
    if draw is None and {"importance", "by_fold"} <= {*findings.frame.columns, *findings.more}:
        draw = importance_bars
    if draw is None:
        raise UsageError(f"no single figure stands for {getattr(findings, 'method', type(findings).__name__)}; see chaff.plots")
    return draw(findings, **settings)
