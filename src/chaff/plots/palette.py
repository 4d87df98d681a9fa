"""The one place for colours and type. Readable without colour vision: a verdict always has a mark or a word too.

A figure that takes words as they are: `$` is no formula, and a name of a million letters is cut before it is laid out.
"""

from __future__ import annotations

from typing import Any

from matplotlib.figure import Figure
from matplotlib.text import Text
from matplotlib.ticker import FixedFormatter, FuncFormatter

LONGEST, LONGEST_TICK = 160, 48


class PlainFigure(Figure):
    """Cleans its words whenever it is drawn."""

    def draw(self, renderer: Any) -> None:
        numbers: set[Text] = set()  # labels that Matplotlib makes itself, such as powers of ten
        for ax in self.axes:
            for axis in (ax.xaxis, ax.yaxis):
                made = axis.get_major_formatter()
                _plain_ticks(made)
                if not isinstance(made, FixedFormatter | FuncFormatter):
                    numbers |= set(axis.findobj(Text)) - {axis.label}
        for text in self.findobj(Text):
            if text in numbers:
                continue
            text.set_parse_math(False)
            if len(text.get_text()) > LONGEST or not text.get_text().isascii():
                text.set_text("\n".join(plain(line, LONGEST) for line in text.get_text()[: 20 * LONGEST].split("\n")))
        super().draw(renderer)


def _plain_ticks(made: Any) -> None:
    """Labels of ticks are only made while they are drawn."""
    if hasattr(made, "seq"):
        made.seq = [plain(s, LONGEST_TICK) for s in made.seq]
    elif isinstance(made, FuncFormatter) and not isinstance(made.func, _Plain):
        made.func = _Plain(made.func)


class _Plain:
    """A label function whose labels are plain."""

    def __init__(self, made: Any) -> None:
        self.made = made

    def __call__(self, *place: Any) -> str:
        return plain(self.made(*place), LONGEST_TICK)


def plain(words: object, longest: int) -> str:
    """Short enough, and of letters that can be written."""
    text = str(words)
    text = text if len(text) <= longest else f"{text[: longest - 1]}…"
    return text.encode("utf-8", "replace").decode()


INK, PAPER, KEEP, DROP, REVIEW, SECOND, GRID = "#1D2430", "#FFFFFF", "#0F6E6E", "#A8A29A", "#7A4E8A", "#B5651D", "#E6E2DA"

QUIET = "#6F6961"  # husk, darkened until small print can be read on paper


def new_figure(width: float = 10.0, height: float = 6.25) -> Any:
    """A figure without pyplot and its global state; 1280 x 800 at 128 dots an inch."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    from chaff.plots.palette import PlainFigure

    figure = PlainFigure(figsize=(width, height), dpi=128, facecolor=PAPER, layout="constrained")
    FigureCanvasAgg(figure)
    return figure


def new_axes(width: float = 10.0, height: float = 6.25) -> Any:
    """Axes on a figure of their own."""
    return new_figure(width, height).add_subplot()


def sequential() -> Any:
    """White to teal, for shares and strengths."""
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list("chaff sequential", [PAPER, KEEP])


def diverging() -> Any:
    """Teal over white to plum, for what has a sign."""
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list("chaff diverging", [KEEP, PAPER, REVIEW])


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


def subtitle(ax: Any, title: str, words: str) -> None:
    """A quiet line under the title; without words the title stays as `dress` has put it."""
    if words:
        ax.text(0, 1.015, words, transform=ax.transAxes, fontsize=10, color=QUIET, va="bottom")
        ax.set_title(title, loc="left", color=INK, fontsize=13, fontweight="bold", pad=26)


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
