"""The leading features as bars: kept ones in full colour, the others pale, with intervals, and p-values beside them."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.errors import UsageError
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, GRID, INK, KEEP, QUIET, dress
from chaff.results.findings import Findings

BARS = 25
SMALLEST_P = 1e-300
FAR = 2.0  # a smallest p whose logarithm is so many times the next one's


@drawn_on("figure")
def relevance_bars(findings: Findings, by: str | None = None, bars: int = BARS, *, figure: Any = None) -> None:
    """Draw the leading features of `chaff.relevance`.

    Parameters
    ----------
    findings : Findings
    by : str, optional
        Column to draw; the one that leads when left out.
    bars : int
        At most so many bars, whatever the number of features.

    Returns
    -------
    matplotlib Figure
        On the left the value with its interval where there is one; on the right its p-value on a log scale, where there is one.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.relevance(chaff.demo.table(rows=100), "leading", cut={"top": 8})
    >>> chaff.plots.relevance_bars(found).axes[0].get_xlabel()
    'effect size'
    """
    by = by or findings.lead
    frame = findings.ranked(by)
    frame = frame[findings.values(by).reindex(frame.index).notna()]
    if frame.empty:
        raise UsageError(f"no feature has a value of {by}: there is nothing to draw")
    subset = frame.head(bars)
    p_name = next((c for c in (f"{by}_p", "p" if by in ("effect_size", "p", "q") else "") if c in subset.columns), None)
    axes = figure.subplots(1, 2, sharey=True, width_ratios=(3, 1.25)) if p_name else [figure.subplots()]
    stays = (subset["verdict"] == "keep").to_numpy() if "verdict" in subset.columns else np.ones(len(subset), bool)
    places = np.arange(len(subset))[::-1]
    _values(axes[0], subset, by, stays, places)
    words = (
        f"The {len(subset)} leading of {len(findings.frame)} features" if len(subset) < len(findings.frame) else f"{len(subset)} features"
    )
    kept = f", {int((findings.frame['verdict'] == 'keep').sum())} kept" if "verdict" in frame.columns else ""
    dress(axes[0], f"{words} by {_plain(by)}{kept}", _plain(by), "")
    axes[0].grid(axis="y", visible=False)
    axes[0].set_yticks(places, [str(f) for f in subset.index])
    axes[0].tick_params(axis="y", labelsize=9 if len(subset) > 18 else 10)
    if p_name:
        _p_values(axes[1], subset[p_name].to_numpy(float), stays, places)


def _plain(name: str) -> str:
    return name.replace("_", " ")


def _values(ax: Any, subset: Any, by: str, stays: Any, places: Any) -> None:
    values = subset[by].to_numpy(float)
    known = values[np.isfinite(values)]
    finite = np.where(np.isfinite(values), values, known.max() if known.size else 1.0)
    ax.barh(places, finite, height=0.68, color=[KEEP if s else DROP for s in stays], alpha=1.0)
    low, high = (subset.get(f"{by}{end}") for end in ("_low", "_high"))
    reach = finite
    if low is not None and high is not None:
        low, high = low.to_numpy(float), high.to_numpy(float)
        known = ~np.isnan(low) & ~np.isnan(high)
        ax.hlines(places[known], low[known], high[known], color=INK, linewidth=1.1)
        for ends in (low, high):
            ax.plot(ends[known], places[known], linestyle="none", marker="|", color=INK, markersize=6)
        reach = np.where(known, np.maximum(np.abs(finite), np.nan_to_num(np.where(values < 0, -low, high))) * np.sign(finite), finite)
    span = max(float(np.abs(reach).max()), 1e-12)
    for place, value, end in zip(places, values, reach, strict=True):
        ax.annotate(
            f"{value:.3g}",
            (end, place),
            xytext=(5 if value >= 0 else -5, 0),
            textcoords="offset points",
            va="center",
            ha="left" if value >= 0 else "right",
            fontsize=8.5,
            color=QUIET,
        )
    negative = bool((finite < 0).any())
    ax.set_xlim(-1.15 * span if negative else 0, 1.15 * span)
    if negative:
        ax.axvline(0, color=QUIET, linewidth=0.8)


def _p_values(ax: Any, p: Any, stays: Any, places: Any) -> None:
    """Dots further right are smaller; one far beyond all others stands at the edge and says so."""
    logs = np.sort(np.log10(np.maximum(p[~np.isnan(p)], SMALLEST_P)))
    edge = logs[0] if logs.size else -2.0
    if logs.size > 2 and edge < FAR * logs[1]:
        edge = 1.3 * logs[1]  # one giant must not press the others against the axis
    least = 10.0 ** min(edge, -3.0)
    tiny = p < least * (1.0 - 1e-9)  # rounding makes no giant
    shown = np.maximum(np.where(np.isnan(p), 1.0, p), least)
    ax.hlines(places, 1.0, shown, color=GRID, linewidth=1.2)
    ax.scatter(shown, places, color=[KEEP if s else DROP for s in stays], s=26, zorder=3)
    ax.set_xscale("log")
    ax.set_xlim(1.5, least**1.06)
    for place in places[tiny]:
        ax.annotate(
            "far smaller →", (least, place), xytext=(-7, 0), textcoords="offset points", ha="right", va="center", fontsize=8.5, color=QUIET
        )
    dress(ax, "", "p, smaller to the right", "")
    ax.grid(axis="y", visible=False)
    ax.axvline(0.05, color=QUIET, linewidth=1, linestyle=(0, (2, 2)))
    from matplotlib.ticker import LogLocator

    ax.xaxis.set_major_locator(LogLocator(numticks=4))
    ax.minorticks_off()
