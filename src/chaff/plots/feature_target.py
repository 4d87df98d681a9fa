"""One feature against the target, and two features against each other: scatter, boxes or mosaic by their kinds."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, INK, KEEP, PAPER, QUIET, REVIEW, SECOND, dress
from chaff.stats.correlation import correlation_p
from chaff.stats.influence import FEWEST, pearson_with_bounds
from chaff.stats.paired_loss import Units
from chaff.stats.score_test import score_p
from chaff.table.kinds import Column
from chaff.table.table import Table

POINTS = 4000
BOXES = 12
BANDS = 12
COLOURS = (KEEP, SECOND, REVIEW, DROP)


@drawn_on("ax")
def feature_target(table: Table, feature: str, *, ax: Any = None) -> None:
    """Draw one feature against the target: points, boxes or a mosaic, whichever fits the two kinds.

    Parameters
    ----------
    table : Table
    feature : str

    Examples
    --------
    >>> import chaff
    >>> ax = chaff.plots.feature_target(chaff.demo.table(rows=100), "variety")
    >>> ax.get_ylabel()
    'loaf_volume (ml)'
    """
    table.check_known([feature])
    column, target = table.column(feature), table.target
    there = ~column.missing
    gaps = f" · {int((~there).sum()):,} rows missing" if not there.all() else ""
    x, y = column.values[there], table.y[there]
    label = _label(feature, table.meaning(feature).unit)
    wanted = _label(target.name, target.unit)
    if target.task == "regression" and not column.levels:
        _points(ax, x, y)
        _course(ax, x, y)
        dress(ax, f"{feature} and {target.name}", label, wanted)
        _under_title(ax, _r_words(x, y, _units(table, there)) + gaps)
    elif target.task == "regression":
        shown = _boxes(ax, [y[x == k] for k in range(len(column.levels))], column.levels)
        dress(ax, f"{target.name} by {feature}{shown}{gaps}", label, wanted)
    elif not column.levels:
        _boxes(ax, [x[y == k] for k in range(len(target.classes))], target.classes, by_size=False)
        dress(ax, f"{feature} in each class of {target.name}{gaps}", target.name, label)
    else:
        shown = _mosaic(ax, column, x, y, target.classes)
        dress(ax, f"Shares of {target.name} by {feature}{shown}{gaps}", f"{label}, as wide as its rows", "share of the rows")
        ax.grid(False)


@drawn_on("ax")
def two_features(table: Table, first: str, second: str, *, ax: Any = None) -> None:
    """Two number features against each other with their r; points coloured by the target, low to high, or by class.

    Examples
    --------
    >>> import chaff
    >>> ax = chaff.plots.two_features(chaff.demo.table(rows=100), "protein_pct", "protein_nir_pct")
    >>> "r 0.9" in ax.get_title(loc="left")
    True
    """
    from chaff.errors import UsageError

    table.check_known([first, second])
    a, b = table.column(first), table.column(second)
    for column in (a, b):
        if column.levels and len(column.levels) > 2:
            raise UsageError(f"'{column.name}' is a {column.kind}: two_features draws numbers; use feature_target for it")
    both = ~a.missing & ~b.missing
    x, y, target = a.values[both], b.values[both], table.y[both]
    subset = _sampled_rows(x.size)
    if table.target.classes:
        for k, name in enumerate(table.target.classes):
            here = subset[target[subset] == k]
            ax.scatter(x[here], y[here], color=COLOURS[k % len(COLOURS)], s=14, alpha=0.7, linewidths=0, label=name)
        ax.legend(title=table.target.name, frameon=False, fontsize=10)
        colours = ""
    else:
        from matplotlib.colors import LinearSegmentedColormap

        shade = LinearSegmentedColormap.from_list("low to high", [REVIEW, DROP, KEEP])
        ranks = np.argsort(np.argsort(target)) / max(target.size - 1, 1)
        ax.scatter(x[subset], y[subset], c=ranks[subset], cmap=shade, s=14, alpha=0.75, linewidths=0)
        colours = f" · plum: low {table.target.name}, teal: high"
    words = _r_words(x, y, _units(table, both))
    labels = [_label(n, table.meaning(n).unit) for n in (first, second)]
    dress(ax, f"{first} and {second}: {words.split(' (')[0]}", *labels)
    _under_title(ax, f"{words}{colours}")


def _under_title(ax: Any, words: str) -> None:
    ax.text(0, 1.015, words, transform=ax.transAxes, fontsize=10, color=QUIET, va="bottom")
    ax.set_title(ax.get_title(loc="left"), loc="left", color=INK, fontsize=13, fontweight="bold", pad=26)


def _label(name: str, unit: str) -> str:
    return f"{name} ({unit})" if unit else name


def _sampled_rows(rows: int) -> Any:
    """All rows, or every so many-th."""
    return np.arange(rows) if rows <= POINTS else np.linspace(0, rows - 1, POINTS).astype(int)


def _r_words(x: Any, y: Any, units: Units | None) -> str:
    """r with its bounds and p, as relevance gives them: groups, order and weights are counted."""
    r, low, high = pearson_with_bounds(x, y, units, 0.95) if x.size >= FEWEST else (float("nan"),) * 3
    if r != r:
        return "no correlation can be told"
    p = float(correlation_p(np.array(r), np.array(float(x.size)))) if units is None else score_p(x[None], y[None], units)
    bounds = f" (95 %: {low:.2f} to {high:.2f})" if low == low else ""
    tail = "" if p != p else ", p < 1e-16" if p < 1e-16 else f", p {p:.2g}"
    return f"r {r:.2f}{bounds}{tail}, {x.size:,} rows"


def _units(table: Table, rows: Any) -> Units | None:
    return None if table.units is None else table.units.take(rows)


def _points(ax: Any, x: Any, y: Any) -> None:
    subset = _sampled_rows(x.size)
    ax.scatter(x[subset], y[subset], s=12, color=DROP, alpha=0.6, linewidths=0)


def _course(ax: Any, x: Any, y: Any) -> None:
    """Means of the target in bands of equal count, with two standard errors."""
    order = np.argsort(x, kind="stable")
    bands = [b for b in np.array_split(order, min(BANDS, max(x.size // 15, 1))) if b.size]
    centres = np.array([np.median(x[b]) for b in bands])
    means = np.array([y[b].mean() for b in bands])
    errors = np.array([2 * y[b].std() / np.sqrt(b.size) for b in bands])
    ax.errorbar(centres, means, errors, color=KEEP, linewidth=2, marker="o", markersize=5, capsize=3)
    ax.annotate("mean in bands, ± 2 standard errors", (0.99, 0.02), xycoords="axes fraction", ha="right", fontsize=9.5, color=KEEP)


def _boxes(ax: Any, groups: list[Any], names: Any, by_size: bool = True) -> str:
    """Boxes of the largest groups, ordered by their medians; says what is left out."""
    sizes = np.array([g.size for g in groups])
    leading = np.argsort(-sizes, kind="stable")[:BOXES] if by_size else np.arange(len(groups))
    keep = [int(k) for k in leading if sizes[k]]
    if by_size:
        keep.sort(key=lambda k: float(np.median(groups[k])))
    far = {"marker": ".", "markersize": 3, "markeredgecolor": DROP}
    boxes = ax.boxplot([groups[k] for k in keep], widths=0.6, patch_artist=True, flierprops=far)
    for box in boxes["boxes"]:
        box.set(facecolor=KEEP, alpha=0.35, edgecolor=INK)
    for line in boxes["medians"]:
        line.set(color=INK, linewidth=1.8)
    for line in [*boxes["whiskers"], *boxes["caps"]]:
        line.set(color=QUIET)
    ax.set_xticks(range(1, len(keep) + 1), [f"{names[k]}\n{sizes[k]:,} rows" for k in keep])
    left_out = int((sizes > 0).sum()) - len(keep)
    return f" · {left_out} rarer levels not shown" if left_out else ""


def _mosaic(ax: Any, column: Column, x: Any, y: Any, classes: tuple[str, ...]) -> str:
    counts = np.zeros((len(column.levels), len(classes)))
    np.add.at(counts, (x.astype(int), y.astype(int)), 1)
    sizes = counts.sum(1)
    keep = [int(k) for k in np.argsort(-sizes, kind="stable")[:BOXES] if sizes[k]]
    keep.sort(key=lambda k: -counts[k, -1] / sizes[k])
    widths = sizes[keep] / sizes[keep].sum()
    left = np.r_[0.0, np.cumsum(widths)[:-1]]
    base = np.zeros(len(keep))
    for c, name in enumerate(classes):
        heights = counts[keep, c] / sizes[keep]
        colour = COLOURS[c % len(COLOURS)]
        ax.bar(left, heights, width=widths, bottom=base, align="edge", color=colour, alpha=0.85, edgecolor=PAPER, linewidth=1.5)
        for k in range(len(keep)):
            if heights[k] > 0.06 and widths[k] > 0.03:
                ax.text(
                    left[k] + widths[k] / 2,
                    base[k] + heights[k] / 2,
                    f"{name}\n{heights[k]:.0%}",
                    ha="center",
                    va="center",
                    fontsize=9,
                    color=PAPER,
                )
        base += heights
    ax.set_xticks(left + widths / 2, [f"{column.levels[k]}\n{int(sizes[k]):,}" for k in keep])
    ax.set_xlim(0, 1)
    ax.set_ylim(0, 1)
    left_out = int((sizes > 0).sum()) - len(keep)
    return f" · {left_out} rarer levels not shown" if left_out else ""
