"""A page as plain parts, and those parts as HTML: the one gate through which anything becomes markup, every word escaped."""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any

import numpy as np

from chaff.results.digits import cell as cell_words

LONGEST = 300  # letters of a cell
PAPER_COLUMNS = 10


@dataclass(frozen=True)
class Cell:
    """What is shown, and what it is sorted by."""

    text: str
    sort: float | str = ""
    style: str = ""
    """A word for the style sheet: keep, drop, look, blocked, number."""
    more: tuple[tuple[str, str, str], ...] = ()
    """A history behind it: (stage, verdict, words)."""
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Limit:
    """A column of numbers that a reader may set a limit to."""

    column: int
    label: str
    way: str
    """Which side stays: "higher", "lower"; "magnitude", "nearest" the same of the distance from `middle`."""
    middle: float = 0.0
    option: str = ""
    """What says the same on the command line, in front of the number."""


@dataclass(frozen=True)
class Grid:
    """A table that is sorted by clicking a heading, and searched."""

    name: str
    headers: Sequence[str]
    rows: Sequence[Sequence[Cell]]
    caption: str = ""
    pins: bool = False
    """Whether the user can set a verdict in every row."""
    limits: Sequence[Limit] = ()
    kind: str = "grid"

    @property
    def wide(self) -> bool:
        """Whether paper has no room for all of it."""
        return len(self.headers) > PAPER_COLUMNS

    @property
    def heads(self) -> list[tuple[str, str]]:
        """(heading, style): a heading stands above its numbers."""
        styles = ["number" if self.rows and all(r[k].style == "number" for r in self.rows) else "" for k in range(len(self.headers))]
        return list(zip(self.headers, styles, strict=True))


@dataclass(frozen=True)
class Picture:
    """A figure as SVG, with the words for who cannot see it."""

    svg: bytes = field(repr=False)
    alt: str
    caption: str = ""
    kind: str = "picture"

    @property
    def address(self) -> str:
        return "data:image/svg+xml;base64," + base64.b64encode(self.svg).decode()


@dataclass(frozen=True)
class Walk:
    """Sets of a curve that a reader moves along, size by size."""

    name: str
    points: Sequence[Mapping[str, Any]]
    """Of each: size, score and cost as words, mark, features, comes, goes."""
    start: int
    """The place that is shown first."""
    option: str
    """What says a size on the command line, in front of the number."""
    kind: str = "walk"

    @property
    def data(self) -> str:
        return json.dumps(list(self.points), ensure_ascii=False)


@dataclass(frozen=True)
class Words:
    """Paragraphs; `style` quiet, warning or answer."""

    lines: Sequence[str]
    style: str = ""
    kind: str = "words"


@dataclass(frozen=True)
class Code:
    """Text to be copied."""

    text: str
    label: str
    kind: str = "code"


Block = Grid | Picture | Walk | Words | Code


@dataclass(frozen=True)
class Section:
    """A heading with what stands below it."""

    name: str
    """In the address, after #."""
    title: str
    blocks: Sequence[Block]
    folded: bool = False
    short: str = ""
    """In the list of sections at the top."""


@dataclass(frozen=True)
class Page:
    """Everything on the page."""

    title: str
    subtitle: str
    sections: Sequence[Section]
    made_with: str
    pins: bool = False


def text_cell(text: Any, style: str = "") -> Cell:
    words = "" if text is None or text != text else str(text)
    words = words if len(words) <= LONGEST else words[: LONGEST - 1] + "…"
    return Cell(words.encode("utf-8", "replace").decode(), words.lower(), style)


def number_cell(value: float, text: str | None = None, column: str = "") -> Cell:
    """Sorted as a number, whatever it looks like; a missing one last."""
    known = value is not None and value == value
    shown = (cell_words(column, float(value)) if known else "") if text is None else text
    return Cell(shown, float(np.clip(value, -1e300, 1e300)) if known else "", "number")


def frame_grid(name: str, frame: Any, caption: str = "", first: str = "feature", columns: Sequence[str] | None = None) -> Grid:
    """A frame indexed by feature, every column of it; columns with nothing in them are left out."""
    shown = [c for c in (columns if columns is not None else frame.columns) if not _empty(frame[c])]
    rows = [[text_cell(index)] for index in frame.index]
    for c in shown:
        values = frame[c].tolist()
        for row, value in zip(rows, values, strict=True):
            row.append(_cell(str(c), value))
    return Grid(name, [first, *(str(c).replace("_", " ") for c in shown)], rows, caption)


def _cell(column: str, value: Any) -> Cell:
    if isinstance(value, bool | np.bool_):
        return text_cell("yes" if value else "")
    if isinstance(value, int | float | np.number):
        return number_cell(float(value), column=column)
    if isinstance(value, tuple | list):
        return text_cell(", ".join(map(str, value)))
    return text_cell(value, style=str(value) if column == "verdict" else "")


def _empty(column: Any) -> bool:
    return all(v is None or (isinstance(v, float) and v != v) or (isinstance(v, str | tuple) and not v) for v in column.tolist())


@cache
def _environment() -> Any:
    import jinja2

    # Everything is escaped, whatever the ending of a template's name.
    return jinja2.Environment(
        loader=jinja2.PackageLoader("chaff.report", "templates"), autoescape=True, trim_blocks=True, lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
    )  # fmt: skip


def _file(name: str) -> str:
    """One of our own files as it is: style sheet and script, the only things on the page that are not escaped."""
    source: str = _environment().loader.get_source(_environment(), name)[0]
    return source


def render(page: Page) -> str:
    """The page as HTML. What may run in it is named by its hash: nothing that a column's name could smuggle in does."""
    from markupsafe import Markup

    style, script = _file("page.css"), _file("page.js")
    allowed = "sha256-" + base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    template = _environment().get_template("page.html")
    html: str = template.render(page=page, style=Markup(style), script=Markup(script), allowed=allowed)
    return html
