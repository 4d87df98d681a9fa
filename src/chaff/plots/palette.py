"""The one place for colours and type. Readable without colour vision: a verdict always has a mark or a word too."""

from __future__ import annotations

from typing import Any

INK, PAPER, KEEP, DROP, LOOK, SECOND, GRID = "#1D2430", "#FFFFFF", "#0F6E6E", "#A8A29A", "#7A4E8A", "#B5651D", "#E6E2DA"

QUIET = "#6F6961"  # husk, darkened until small print can be read on paper


def new_axes(width: float = 10.0, height: float = 6.25) -> Any:
    """Axes on a figure of their own, without pyplot and its global state; 1280 x 800 at 128 dots an inch."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(width, height), dpi=128, facecolor=PAPER, layout="constrained")
    FigureCanvasAgg(figure)
    return figure.add_subplot()


def dress(ax: Any, title: str, x: str, y: str) -> None:
    """Title on the left, named axes, a quiet grid."""
    ax.set_title(title, loc="left", color=INK, fontsize=13, fontweight="bold", pad=12)
    ax.set_xlabel(x, color=INK, fontsize=11)
    ax.set_ylabel(y, color=INK, fontsize=11)
    ax.grid(color=GRID, linewidth=0.8)
    ax.set_axisbelow(True)
    ax.tick_params(colors=INK, labelsize=10, length=0)
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        ax.spines[side].set_color(DROP)
