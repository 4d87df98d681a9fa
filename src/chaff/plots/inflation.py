"""Variance inflation as bars with the limit, the elimination's path, and the scree figure of components."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.errors import UsageError
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, GRID, INK, KEEP, PAPER, QUIET, REVIEW, SECOND, dress
from chaff.results.findings import Findings

LOADED = 10  # features of a component that are drawn
BARS = 30
LINES = 12


@drawn_on("ax")
def vif_bars(findings: Findings, limit: float = 10.0, bars: int = BARS, *, ax: Any = None) -> None:
    """The largest variance inflation factors on a log scale, with the limit.

    Parameters
    ----------
    findings : Findings
        Of `chaff.inflation` or `chaff.prune_inflation`.
    limit : float
    bars : int
        At most so many.

    Examples
    --------
    >>> import chaff
    >>> chaff.plots.vif_bars(chaff.inflation(chaff.demo.table(rows=100))).get_xscale()
    'log'
    """
    if "vif" not in findings.frame.columns:
        raise UsageError(f"{findings.method} has no VIF to draw; use the findings of chaff.inflation")
    vif = findings.frame["vif"].dropna().sort_values(ascending=False, kind="stable")
    subset = vif.head(bars)
    values = subset.to_numpy(float)
    finite = values[np.isfinite(values)]
    top = max(float(finite.max()) if finite.size else limit, limit) * 3
    places = np.arange(len(subset))[::-1]
    for place, v in zip(places, values, strict=True):
        over = v > limit
        ax.barh(
            place,
            min(v, top) - 1,
            left=1,
            height=0.66,
            color=REVIEW if over else KEEP,
            hatch="//" if not np.isfinite(v) else None,
            edgecolor="white" if not np.isfinite(v) else "none",
            linewidth=0,
        )
        box = {"facecolor": PAPER, "edgecolor": "none", "pad": 0.8, "alpha": 0.9}
        ax.annotate(
            f"{v:.3g}" if np.isfinite(v) else "infinite",
            (min(v, top), place),
            xytext=(5, 0),
            textcoords="offset points",
            va="center",
            fontsize=9,
            color=QUIET,
            bbox=box,
            zorder=4,
        )
    ax.set_xscale("log")
    ax.axvline(limit, color=SECOND, linewidth=1.4, linestyle=(0, (4, 2)))
    ax.annotate(
        f"limit {limit:g}",
        (limit, -0.9),
        xytext=(5, 0),
        textcoords="offset points",
        color=SECOND,
        fontsize=10,
        fontweight="bold",
        va="center",
    )
    over = int((vif > limit).sum())
    title = f"{over} of {len(vif)} features have a VIF above {limit:g}" + (f"; the {len(subset)} largest" if len(subset) < len(vif) else "")
    dress(ax, title, "variance inflation factor, log scale", "")
    ax.grid(axis="y", visible=False)
    ax.set_yticks(places, [str(f) for f in subset.index])
    ax.tick_params(axis="y", labelsize=9 if len(subset) > 18 else 10)
    ax.set_xlim(1, top**1.12)
    ax.set_ylim(-1.4, len(subset) - 0.4)


@drawn_on("ax")
def vif_trail(findings: Findings, limit: float = 10.0, *, ax: Any = None) -> None:
    """How the VIFs fall as one feature after another goes.

    Parameters
    ----------
    findings : Findings
        Of `chaff.prune_inflation`.

    Examples
    --------
    >>> import chaff
    >>> chaff.plots.vif_trail(chaff.prune_inflation(chaff.demo.table(rows=100))).get_yscale()
    'log'
    """
    if "path" not in findings.more:
        raise UsageError(f"{findings.method} has no path of VIFs to draw; use the findings of chaff.prune_inflation")
    path = findings.more["path"]
    values = path.to_numpy(float)
    finite = values[np.isfinite(values)]
    top = (float(finite.max()) if finite.size else 10.0) * (4 if np.isinf(values).any() else 1)
    shown = np.where(np.isinf(values), top, values)
    moves = np.arange(values.shape[1])
    leaders = list(dict.fromkeys([*path.columns[1:], *path.index[np.argsort(-np.nan_to_num(shown[:, 0]), kind="stable")]]))[:LINES]
    for k, name in enumerate(path.index):
        if name not in leaders:
            ax.plot(moves, shown[k], color=GRID, linewidth=1)
    ends = []
    for name in leaders:
        line = shown[path.index.get_loc(name)]
        there = np.flatnonzero(~np.isnan(line))
        went = name in path.columns[1:]
        ax.plot(moves, line, color=DROP if went else KEEP, linewidth=1.8, marker="o", markersize=4)
        if went:
            ax.plot([there[-1]], [line[there[-1]]], marker="x", color=REVIEW, markersize=9, markeredgewidth=2.2, zorder=6)
        ends.append((int(there[-1]), float(line[there[-1]]), str(name), went))
    _end_labels(ax, ends, len(moves))
    ax.set_yscale("log")
    ax.axhline(limit, color=SECOND, linewidth=1.4, linestyle=(0, (4, 2)))
    count = len(path.columns) - 1
    left = np.nanmax(np.where(np.isinf(values[:, -1]), np.nan, values[:, -1])) if np.isfinite(values[:, -1]).any() else float("nan")
    dress(
        ax,
        f"{count} feature{'s' * (count != 1)} dropped; largest remaining VIF {left:.3g} (limit {limit:g})",
        "move",
        "variance inflation factor, log scale",
    )
    if np.isinf(values).any():
        ax.annotate("infinite", (0, top), xytext=(6, 14), textcoords="offset points", color=QUIET, fontsize=9)
    ax.set_xticks(moves)
    ax.set_xlim(-0.2, len(moves) - 1 + max(1.2, 0.28 * len(moves)))


def _end_labels(ax: Any, ends: list[tuple[int, float, str, bool]], moves: int) -> None:
    """Names at the ends of the lines, pushed apart where they would lie on each other."""
    placed: list[tuple[int, float]] = []
    step = (np.log10(max(e[1] for e in ends)) + 0.5) / 42 if ends else 0.1
    for x, y, name, went in sorted(ends, key=lambda e: (e[0], e[1])):
        level = np.log10(y)
        while any(abs(x - a) < 2 and abs(level - b) < step for a, b in placed):
            level += step
        placed.append((x, level))
        ax.annotate(
            name + (" goes" if went else ""),
            (x, y),
            xytext=(x + 0.12, 10**level),
            textcoords="data",
            va="center",
            fontsize=9,
            color=REVIEW if went else INK,
            zorder=5,
            bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 0.6, "alpha": 0.85},
        )


@drawn_on("figure")
def component_loadings(findings: Findings, components: int = 3, *, figure: Any = None) -> None:
    """The leading components, each with the features that load most on it.

    Parameters
    ----------
    findings : Findings
        Of `chaff.components`.
    components : int
        How many panels.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.components(chaff.demo.table(rows=100))
    >>> len(chaff.plots.component_loadings(found, 2).axes)
    2
    """
    if "loadings" not in findings.more:
        raise UsageError(f"{findings.method} has no loadings to draw; use the findings of chaff.components")
    loadings, parts = findings.more["loadings"], findings.more["components"]
    count = max(1, min(components, loadings.shape[1]))
    for k, ax in enumerate(np.atleast_1d(figure.subplots(1, count))):
        own = loadings.iloc[:, k]
        first = own.abs().sort_values(ascending=False, kind="stable").index[:LOADED][::-1]
        values = own.loc[first].to_numpy(float)
        ax.barh(range(len(first)), values, color=[KEEP if v > 0 else SECOND for v in values], height=0.7)
        ax.set_yticks(range(len(first)), [str(f) for f in first])
        dress(ax, f"component {k + 1}: {parts['explained'].iloc[k]:.0%}", "loading", "")
        ax.axvline(0, color=INK, linewidth=0.8)
        ax.set_xlim(-1.05, 1.05)


@drawn_on("ax")
def scree(findings: Findings, *, ax: Any = None) -> None:
    """Eigenvalues of the components, with what shuffled columns give, and the cumulative share.

    Parameters
    ----------
    findings : Findings
        Of `chaff.components`.

    Examples
    --------
    >>> import chaff
    >>> chaff.plots.scree(chaff.components(chaff.demo.table(rows=100))).get_xlabel()
    'component'
    """
    if "components" not in findings.more:
        raise UsageError(f"{findings.method} has no components to draw; use the findings of chaff.components")
    parts = findings.more["components"]
    x, values = parts.index.to_numpy(), parts["eigenvalue"].to_numpy(float)
    ax.bar(x, values, width=0.72, color=[KEEP if k <= findings.settings["significant"] else DROP for k in x])
    if parts["chance"].notna().any():
        ax.plot(x, parts["chance"], color=REVIEW, linewidth=1.8, linestyle=(0, (4, 2)))
        at = min(len(x) - 1, max(3, len(x) // 3))
        ax.annotate(
            "permutation threshold (95th percentile)",
            (x[at], parts["chance"].iloc[at]),
            xytext=(6, 8),
            textcoords="offset points",
            color=REVIEW,
            fontsize=10,
        )
    reach, share = findings.settings["reach"], findings.settings["share"]
    beyond = f"{findings.settings['significant']} components exceed the permutation threshold; " if findings.settings["shuffles"] else ""
    dress(ax, f"{beyond}{reach} of {len(x)} explain {share:.0%} of the variance", "component", "eigenvalue (variance, in features)")
    over = ax.twinx()
    over.plot(x, parts["cumulative"], color=SECOND, linewidth=1.6)
    over.set_ylim(0, 1.02)
    over.set_ylabel("cumulative share", color=SECOND, fontsize=11)
    over.tick_params(colors=SECOND, labelsize=9, length=0)
    for side in over.spines.values():
        side.set_visible(False)
    over.plot([reach], [parts["cumulative"].iloc[reach - 1]], marker="o", color=SECOND, markersize=8)
    ax.set_xlim(0.2, len(x) + 0.8)
