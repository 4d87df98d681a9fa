"""The correlation map: columns ordered by cluster, weak cells muted, the tree beside it."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.errors import UsageError
from chaff.methods.overlap.associations import tree_of
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import INK, KEEP, QUIET, diverging, sequential
from chaff.results.findings import Findings

MOST_LABELS = 70
FULL = 60  # columns up to which all are drawn
MOST_VALUES = 14
PAIR_LIMIT = 0.95  # where the findings have none


@drawn_on("figure")
def correlation_map(findings: Findings, limit: float = 0.3, linkage: str = "average", *, figure: Any = None) -> None:
    """Draw the matrix of `chaff.correlations` or `chaff.associations`.

    Parameters
    ----------
    findings : Findings
        With a "matrix" in `more`.
    limit : float
        Cells whose size is below are left white, so that what matters can be seen.
    linkage : "average" or "complete"
        How columns are put into clusters, on 1 - |r|.

    Returns
    -------
    matplotlib Figure
        The map, columns in the order of the tree, and the tree beside it. Floats are written into the cells up to 14
        columns; past 60 columns only those with a partner at the limit or
        more are drawn, and the others counted; past 70 only so many are named as can be read, the strongest first.

    Examples
    --------
    >>> import chaff
    >>> figure = chaff.plots.correlation_map(chaff.correlations(chaff.demo.table(rows=100)))
    >>> len(figure.axes) >= 2
    True
    """
    if "matrix" not in findings.more:
        raise UsageError(f"{findings.method} has no matrix to draw; use the findings of chaff.correlations or chaff.associations")
    from scipy.cluster.hierarchy import dendrogram

    matrix = findings.more["matrix"]
    values, names = matrix.to_numpy(float), [str(n) for n in matrix.index]
    everything = len(names)
    if everything > FULL:
        # A map of hundreds of columns that go with nothing is white: those are counted, not drawn.
        away = np.abs(np.where(np.eye(everything, dtype=bool), 0, np.nan_to_num(values))).max(1)
        partnered = np.flatnonzero(away >= limit)
        if 4 < partnered.size < everything:
            values, names = values[np.ix_(partnered, partnered)], [names[k] for k in partnered]
    tree = tree_of(values, linkage)
    order = dendrogram(tree, no_plot=True)["leaves"]
    p = len(names)
    shown = values[np.ix_(order, order)]
    signed = bool(np.nanmin(shown) < 0)
    left, right = figure.subplots(1, 2, width_ratios=(5, 1.2))
    muted = np.where(np.abs(shown) >= limit, shown, 0.0)
    image = left.imshow(
        muted, cmap=diverging() if signed else sequential(), vmin=-1 if signed else 0, vmax=1, interpolation="nearest", aspect="auto"
    )
    _labels(left, [names[k] for k in order], shown)
    if p <= MOST_VALUES:
        for i in range(p):
            for j in range(p):
                if i != j and abs(shown[i, j]) >= limit:
                    left.text(
                        j, i, f"{shown[i, j]:.2f}", ha="center", va="center", fontsize=9, color="white" if abs(shown[i, j]) > 0.6 else INK
                    )
    words, pair_limit = findings.settings.get("method", ""), findings.settings.get("limit", PAIR_LIMIT)
    what = f"{words.capitalize()} correlations" if words else "Associations"
    over = int((np.abs(np.triu(np.nan_to_num(shown), 1)) >= pair_limit).sum())
    subset = f"{p} columns" if p == everything else f"the {p} of {everything} columns with a partner at {limit:g} or more"
    title = f"{what} of {subset}: {over} pair{'s' * (over != 1)} at {pair_limit:g} or more"
    figure.suptitle(title, x=0.01, ha="left", color=INK, fontsize=13, fontweight="bold")
    bar = figure.colorbar(image, ax=right, location="right", fraction=0.25, aspect=30)
    bar.set_label(f"white below {limit:g}", color=QUIET, fontsize=9)
    bar.ax.tick_params(labelsize=8, colors=QUIET, length=0)
    bar.outline.set_visible(False)
    _tree(right, tree, p)


def _labels(ax: Any, names: list[str], shown: Any) -> None:
    p = len(names)
    away = np.abs(np.where(np.eye(p, dtype=bool), 0, np.nan_to_num(shown))).max(1)
    room = int(MOST_LABELS if p <= MOST_LABELS else 0.8 * MOST_LABELS)
    gap = max(1, int(np.ceil(p / MOST_LABELS)))
    chosen: list[int] = []
    for k in np.argsort(-away, kind="stable").tolist():
        if len(chosen) < room and all(abs(k - c) >= gap for c in chosen):
            chosen.append(k)
    size = float(np.clip(360 / max(min(p, MOST_LABELS), 1), 5.5, 10))
    chosen.sort()
    ax.set_yticks(chosen, [names[k] for k in chosen], fontsize=size)
    if p <= 30:
        ax.set_xticks(range(p), names, rotation=90 if p > 8 else 30, fontsize=size, ha="center" if p > 8 else "right")
    else:
        ax.set_xticks([])
    ax.tick_params(colors=INK, length=0)
    for side in ax.spines.values():
        side.set_visible(False)


def _tree(ax: Any, tree: Any, p: int) -> None:
    """Merges drawn from the left (together) to the right (apart), leaves on the rows of the map."""
    from scipy.cluster.hierarchy import dendrogram

    drawn = dendrogram(tree, no_plot=True)
    for heights, places in zip(drawn["dcoord"], drawn["icoord"], strict=True):
        ax.plot(heights, (np.array(places) - 5.0) / 10.0, color=KEEP, linewidth=1.0 if p <= 80 else 0.6)
    ax.set_ylim(p - 0.5, -0.5)
    ax.set_xlim(0, None)
    ax.set_yticks([])
    ax.set_xlabel("1 - |r|", color=INK, fontsize=10)
    ax.tick_params(colors=QUIET, labelsize=8, length=0)
    for side in ("top", "right", "left"):
        ax.spines[side].set_visible(False)
