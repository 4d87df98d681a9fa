"""Histograms of columns, each bar shaded by what the target does there, and the map of missing cells."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, INK, KEEP, PAPER, QUIET, REVIEW, dress, sequential
from chaff.table.table import Table

if TYPE_CHECKING:
    from chaff.results.findings import Findings

PANELS = 20
BARS = 24
LEVELS = 12
MAP_COLUMNS, MAP_ROWS = 40, 200


@drawn_on("figure")
def histograms(table: Table, findings: Findings | None = None, features: Sequence[str] | None = None, *, figure: Any = None) -> None:
    """A grid of histograms, one column a panel, with the target's course over it.

    Parameters
    ----------
    table : Table
    findings : Findings, optional
        Of `chaff.screen` or `chaff.relevance`: panels then stand in its order, the best first, and a verdict other than
        keep is written into its panel.
    features : list of str, optional
        Which columns; the first 20 when left out.

    Returns
    -------
    matplotlib Figure
        Bars are rows; the line is the target's mean (or the share of the last class) over the bars with enough rows.

    Examples
    --------
    >>> import chaff
    >>> figure = chaff.plots.histograms(chaff.demo.table(rows=100), features=["protein_pct", "variety"])
    >>> len(figure.axes)
    4
    """
    if features is None:
        order = findings.ranked().index if findings is not None else table.features
        features = [str(f) for f in order if f in table.features and not table.column(str(f)).missing.all()]
    shown = list(features)[:PANELS]
    table.check_known(shown)
    across = int(np.clip(np.ceil(np.sqrt(len(shown) * 1.3)), 1, 5))
    down = int(np.ceil(len(shown) / across))
    axes = figure.subplots(max(down, 1), across, squeeze=False).ravel()
    for ax, name in zip(axes, shown, strict=False):
        _panel(ax, table, name, findings)
    for ax in axes[len(shown) :]:
        ax.set_visible(False)
    target = table.target
    unit = f" ({target.unit})" if target.unit else ""
    what = f"mean {target.name}{unit}" if target.task == "regression" else f"share of '{target.classes[-1]}'"
    more = f" · {len(shown)} of {len(features)} columns" if len(features) > len(shown) else ""
    title = f"Rows in each bar, and the {what} over them (line){more}"
    figure.suptitle(title, x=0.01, ha="left", color=INK, fontsize=13, fontweight="bold")


def _panel(ax: Any, table: Table, name: str, findings: Findings | None) -> None:
    column = table.column(name)
    present = ~column.missing
    y = table.y if table.target.task == "regression" else (table.y == len(table.target.classes) - 1).astype(float)
    x, y = column.values[present], y[present]
    if column.levels:
        used, place, counts = np.unique(x.astype(int), return_inverse=True, return_counts=True)
        order = np.argsort(-counts, kind="stable")[:LEVELS]
        centres, width = np.arange(order.size) * 1.0, np.full(order.size, 0.8)
        labels: list[str] | None = [column.levels[used[k]] for k in order]
        heights = counts[order]
        means = np.bincount(place, y)[order] / heights
    else:
        edges = np.linspace(x.min(), x.max() if x.max() > x.min() else x.min() + 1, BARS + 1)
        place = np.clip(np.searchsorted(edges, x, side="right") - 1, 0, BARS - 1)
        heights = np.bincount(place, minlength=BARS)
        centres, width, labels = (edges[1:] + edges[:-1]) / 2, np.diff(edges) * 0.92, None
        with np.errstate(invalid="ignore"):
            means = np.bincount(place, y, minlength=BARS) / heights
    ax.bar(centres, heights, width=width, color=DROP, alpha=0.75)
    _course(ax, centres, np.where(heights >= max(5, 0.004 * len(table)), means, np.nan), y)
    ax.set_title(_short(name, 24), color=INK, fontsize=9, loc="left", pad=3)
    ax.tick_params(colors=QUIET, labelsize=7, length=0, pad=1)
    ax.set_yticks([])
    for side in ("top", "right", "left"):
        ax.spines[side].set_visible(False)
    ax.spines["bottom"].set_color(DROP)
    if labels is not None:
        many = len(labels) > 4
        ax.set_xticks(centres, [_short(w, 8) for w in labels], rotation=30 if many else 0, ha="right" if many else "center")
    else:
        ax.locator_params(axis="x", nbins=4)
    _remarks(ax, column, table, name, findings)


def _course(ax: Any, centres: Any, means: Any, y: Any) -> None:
    """The target's mean on a scale of its own, from its 2nd to its 98th percentile, the same in every panel."""
    over = ax.twinx()
    over.plot(centres, means, color=KEEP, linewidth=1.6, marker="o", markersize=2.2)
    low, high = (0.0, 1.0) if np.isin(y, (0.0, 1.0)).all() else np.quantile(y, (0.02, 0.98))
    over.set_ylim(low, high if high > low else low + 1)
    over.axis("off")


def _remarks(ax: Any, column: Any, table: Table, name: str, findings: Findings | None) -> None:
    words = []
    missing = float(column.missing.mean())
    if missing > 0:
        words.append((f"{missing:.0%} missing", QUIET))
    if findings is not None and "verdict" in findings.frame.columns and findings.frame.loc[name, "verdict"] != "keep":
        verdict = str(findings.frame.loc[name, "verdict"])
        words.insert(0, (verdict, REVIEW if verdict == "review" else QUIET))
    for k, (text, colour) in enumerate(words):
        ax.text(
            0.99,
            1.0 - 0.13 * k,
            text,
            transform=ax.transAxes,
            ha="right",
            va="bottom" if k == 0 else "top",
            fontsize=7.5,
            color=colour,
            bbox={"facecolor": PAPER, "edgecolor": "none", "alpha": 0.75, "pad": 1},
        )


def _short(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


@drawn_on("ax")
def missing_map(table: Table, findings: Findings | None = None, *, ax: Any = None) -> None:
    """Where cells are missing: columns side by side, rows in the order of the target, so that absence that tells shows.

    Parameters
    ----------
    table : Table
    findings : Findings, optional
        Of `chaff.screen`: writes beside a column that its absence tells.

    Returns
    -------
    matplotlib Axes
        Up to 40 columns, the most missing first; each cell is the share missing among some hundredth of the rows.

    Examples
    --------
    >>> import chaff
    >>> chaff.plots.missing_map(chaff.demo.table(rows=100)).get_title(loc="left")[:7]
    'Missing'
    """
    shares = {f: float(table.column(f).missing.mean()) for f in table.features}
    names = sorted((f for f in shares if shares[f] > 0), key=lambda f: -shares[f])
    shown = names[:MAP_COLUMNS]
    order = np.argsort(table.y, kind="stable")
    parts = np.array_split(order, min(MAP_ROWS, order.size))
    cells = np.array([[table.column(f).missing[p].mean() for p in parts] for f in shown]).reshape(len(shown), len(parts))
    ax.imshow(cells, aspect="auto", cmap=sequential(), vmin=0, vmax=1, interpolation="nearest")
    more = f", {len(shown)} of {len(names)} columns" if len(names) > len(shown) else ""
    count = f"{len(names)} of {len(table.features)} columns have missing values"
    target = table.target.name + (f" ({table.target.unit})" if table.target.unit else "")
    title = f"Missing cells, rows in the order of {table.target.name}: {count}{more}"
    dress(ax, title, f"rows, from the lowest {target} to the highest", "")
    ax.grid(False)
    ax.set_yticks(range(len(shown)), [f"{_short(f, 26)}  {shares[f]:.0%}{_missingness_note(findings, f)}" for f in shown])
    ax.set_xticks([])


def _missingness_note(findings: Findings | None, name: str) -> str:
    text = findings is not None and "absence_tells" in findings.frame.columns and bool(findings.frame.loc[name, "absence_tells"])
    return "\ninformative" if text else ""
