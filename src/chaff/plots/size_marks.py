"""What figures of score against size share: a curve with its error, a chosen size, a line that nothing scores."""

from __future__ import annotations

from typing import Any

from chaff.plots.palette import DROP, QUIET


def band(ax: Any, sizes: Any, mean: Any, se: Any, colour: str, style: Any) -> None:
    """A curve with a band of one standard error."""
    ax.fill_between(sizes, mean - se, mean + se, color=colour, alpha=0.12, linewidth=0)
    ax.plot(sizes, mean, color=colour, linewidth=2.0, linestyle=style, marker="o", markersize=3)


def level(ax: Any, value: float, word: str, style: Any = "solid", above: bool = False) -> None:
    """A quiet line across, named at its right end."""
    ax.axhline(value, color=DROP, linewidth=1.2, linestyle=style, zorder=1)
    ax.annotate(
        word, (0.99, value), xycoords=("axes fraction", "data"), xytext=(0, 3 if above else -3), textcoords="offset points", ha="right",
        va="bottom" if above else "top", color=QUIET, fontsize=10,
    )  # fmt: skip


def mark_size(ax: Any, x: int, y: float, word: str, edge: str, face: str, height: float, most: int) -> None:
    """A ring on the curve, a line down to the axis, and a label beside the line, clear of the curve.

    height : share of the axes at which the label stands.  most : the largest size drawn.
    """
    ax.plot([x], [y], marker="o", markersize=11, markerfacecolor=face, markeredgecolor=edge, markeredgewidth=2.2, zorder=5)
    ax.axvline(x, color=edge, linewidth=1.2, linestyle=(0, (2, 2)), zorder=1)
    right = x < 0.6 * most
    ax.annotate(
        f"{word}: {x} feature{'s' * (x != 1)}, {y:.3f}", (x, height), xycoords=("data", "axes fraction"),
        xytext=(8 if right else -8, 0), textcoords="offset points", ha="left" if right else "right",
        color=edge if edge != DROP else QUIET, fontsize=11, fontweight="bold", zorder=6,
    )  # fmt: skip
