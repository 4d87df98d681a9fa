"""A figure that takes words as they are: `$` is no formula, and a name of a million letters is cut before it is laid out."""

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
