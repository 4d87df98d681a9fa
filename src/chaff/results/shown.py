"""Tables as people see them: laid out to a width as text, or as small HTML, from the same cells.

A number is never cut; a name is shortened in its middle; words wrap; a column that does not fit is left out and named, unless it
was asked for.
"""

from __future__ import annotations

import html
import re
import shutil
import textwrap
import unicodedata
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

from chaff.results.digits import cell as cell_words
from chaff.visible import visible

if TYPE_CHECKING:
    import pandas as pd

Fit = Literal["name", "number", "word", "words"]
NAMES = frozenset({"feature", "first", "second", "column", "goes", "stays", "partner", "whose", "features"})
WRAPPED = frozenset(
    {"reason", "why", "in words", "explained by", "columns", "what", "says", "equation", "advice", "words", "or in its place"}
)
SHORTEST_NAME, LONGEST_NAME, NARROWEST_WORDS, GAP = 12, 40, 18, 2
ROWS_SHOWN = 20
MOST_COLUMNS = 10  # of a frame in a notebook


class Styled(NamedTuple):
    """A cell with a style that the printer knows."""

    text: str
    style: str = ""


Cell = str | Styled


@dataclass(frozen=True)
class TextColumn:
    """One column of a table: its cells, and what may be done to make it fit."""

    header: str
    cells: Sequence[Cell]
    fit: Fit = "number"
    required: bool = False
    """Never left out."""

    @property
    def natural(self) -> int:
        head = width_of(self.header) if self.fit in ("name", "words") else max(map(width_of, self.header.split(" ")), default=0)
        return max([head, *(width_of(text_of(c)) for c in self.cells)])

    @property
    def least(self) -> int:
        if self.fit == "name":
            return min(self.natural, SHORTEST_NAME)
        return min(self.natural, NARROWEST_WORDS) if self.fit == "words" else self.natural

    @property
    def whole_name(self) -> int:
        """The least where a name is to be read whole, if it is no longer than names are."""
        return min(self.natural, LONGEST_NAME) if self.fit == "name" else self.least


class Line(NamedTuple):
    """One line of a laid out table: pieces of text with their styles."""

    pieces: tuple[Styled, ...]

    @property
    def text(self) -> str:
        return "".join(p.text for p in self.pieces).rstrip()


@dataclass(frozen=True)
class Laid:
    """A table laid out to a width."""

    lines: tuple[Line, ...]
    left_out: tuple[str, ...]
    """Headers of the columns that did not fit."""


def text_of(cell: Cell) -> str:
    return cell.text if isinstance(cell, Styled) else cell


def width_of(text: str) -> int:
    """Columns of a terminal that a text takes."""
    if text.isascii():
        return len(text)
    wide = sum(unicodedata.east_asian_width(c) in "WF" for c in text)
    return len(text) + wide - sum(unicodedata.combining(c) > 0 for c in text)


def shortened(name: str, width: int) -> str:
    """A name cut in its middle: `protein_…_pct`."""
    if width_of(name) <= width:
        return name
    head = width // 2
    return f"{name[:head]}…{name[len(name) - (width - 1 - head) :] if width - 1 - head else ''}"


def columns_of(headers: Sequence[str], rows: Sequence[Sequence[Cell]], required: Collection[str] = (), names: int = 1) -> list[TextColumn]:
    """Columns from rows; what a column holds is told by its header, the first `names` of them are names."""
    out = []
    for k, header in enumerate(headers):
        cells = [row[k] for row in rows]
        fit: Fit = "number"
        if header in WRAPPED:
            fit = "words"
        elif (k < names and header in NAMES) or header in NAMES:
            fit = "name"
        elif not all(_numeric(text_of(c)) for c in cells):
            fit = "word"
        out.append(TextColumn(header, cells, fit, header in required or fit == "name"))
    return out


def _visible(cell: Cell) -> Cell:
    return Styled(visible(cell.text), cell.style) if isinstance(cell, Styled) else visible(cell)


def _numeric(text: str) -> bool:
    return not text or text[0] in "0123456789-+<≤±." or text in ("inf", "-inf")


def lay_out(columns: Sequence[TextColumn], width: int, indent: int = 1) -> Laid:
    """Lines no wider than `width`; columns that do not fit are left out from the right, those asked for last."""
    room = width - indent
    kept = [replace(c, header=visible(c.header), cells=[_visible(x) for x in c.cells]) for c in columns]
    left_out: list[str] = []
    while len(kept) > 1:
        free = [c for c in kept if not c.required]
        least = sum(c.whole_name if free else c.least for c in kept)  # names are shortened when nothing else can go
        if least + GAP * (len(kept) - 1) <= room:
            break
        free = free or kept[1:]
        gone = free[-1]
        kept.remove(gone)
        if gone.header:
            left_out.append(gone.header)
    widths = _widths(kept, room)
    lines = []
    if any(c.header for c in kept):
        lines += _row_lines([Styled(c.header, "quiet") for c in kept], kept, widths, indent, head=True)
    for k in range(len(kept[0].cells) if kept else 0):
        lines += _row_lines([c.cells[k] for c in kept], kept, widths, indent)
    return Laid(tuple(lines), tuple(reversed(left_out)))


def _widths(columns: Sequence[TextColumn], room: int) -> list[int]:
    """What each column gets: its least, and what is left over to names first, then to heads, then to words."""
    widths = [c.least for c in columns]
    spare = room - sum(widths) - GAP * (len(columns) - 1)
    wishes = [
        *((k, c.natural) for k, c in enumerate(columns) if c.fit == "name"),
        *((k, max(c.natural, width_of(c.header))) for k, c in enumerate(columns) if c.fit in ("number", "word")),  # heads on one line
        *((k, c.natural) for k, c in enumerate(columns) if c.fit == "words"),
    ]
    for k, wish in wishes:
        more = max(min(spare, wish - widths[k]), 0)
        widths[k], spare = widths[k] + more, spare - more
    return widths


def _row_lines(cells: Sequence[Cell], columns: Sequence[TextColumn], widths: Sequence[int], indent: int, head: bool = False) -> list[Line]:
    broken = [_broken(text_of(c), col, w, head) for c, col, w in zip(cells, columns, widths, strict=True)]
    styles = [c.style if isinstance(c, Styled) else "" for c in cells]
    height = max(map(len, broken), default=1)
    out = []
    for k in range(height):
        pieces = [Styled(" " * indent)]
        for j, (lines, column, width) in enumerate(zip(broken, columns, widths, strict=True)):
            at = k - (height - len(lines)) if head else k  # heads stand on the rows below them
            text = lines[at] if 0 <= at < len(lines) else ""
            pad = " " * max(width - width_of(text), 0)
            gap = " " * GAP if j + 1 < len(columns) else ""
            pieces.append(Styled((pad + text if column.fit == "number" else text + pad) + gap, styles[j]))
        out.append(Line(tuple(pieces)))
    return out


def _broken(text: str, column: TextColumn, width: int, head: bool) -> list[str]:
    if width_of(text) <= width:
        return [text]
    if column.fit == "name" and not head:
        return [shortened(text, width)]
    if column.fit == "words" or head:
        return textwrap.wrap(text, width, break_on_hyphens=False) or [""]
    return [text]


def frame_columns(frame: pd.DataFrame, first: Sequence[str] = (), rows: int = ROWS_SHOWN) -> list[TextColumn]:
    """The head of a frame as text columns, its index first, then the columns of `first`, then the rest."""
    head = frame.head(rows)
    order = [*(c for c in first if c in frame.columns), *(c for c in frame.columns if c not in first)]
    order = [c for c in order if any(text_of(_cell(str(c), v)) for v in head[c])]
    headers = [str(frame.index.name or ""), *(str(c).replace("_", " ") for c in order)]
    cells = [[str(i), *(_cell(str(c), head[c].iloc[k]) for c in order)] for k, i in enumerate(head.index)]
    return columns_of(headers, cells, required=(headers[0], *headers[1:2]))


def _cell(column: str, value: Any) -> str:
    return cell_words(column, value) if not isinstance(value, tuple | list) else ", ".join(map(str, value))


def terminal_width(fallback: int = 100) -> int:
    return shutil.get_terminal_size((fallback, 24)).columns


def frame_text(title: str, frame: pd.DataFrame, first: Sequence[str] = (), notes: Sequence[str] = (), width: int | None = None) -> str:
    """A frame as text no wider than the terminal, leading columns first."""
    width = width or terminal_width()
    laid = lay_out(frame_columns(frame, first), width, indent=0)
    lines = [*textwrap.wrap(title, width), *(line.text for line in laid.lines)]
    if len(frame) > ROWS_SHOWN:
        lines.append(f"… and {len(frame) - ROWS_SHOWN:,} more")
    if laid.left_out:
        lines += textwrap.wrap(f"further columns: {', '.join(laid.left_out)}", width)
    return "\n".join([*lines, *(line for n in notes for line in textwrap.wrap(n, width))])


NUMBER = re.compile(r"[<+−-]?[\d.,]+([e%]\S*)?( ± \S+)?$|inf$")  # such a cell stands on the right


def frame_html(title: str, frame: pd.DataFrame, first: Sequence[str] = (), notes: Sequence[str] = ()) -> str:
    """A frame as a small HTML table, everything in it escaped; leading columns, and the others named."""
    columns = frame_columns(frame, first)
    further = [c.header for c in columns[MOST_COLUMNS:]]
    columns = columns[:MOST_COLUMNS]
    rows = [[text_of(c.cells[k]) for c in columns] for k in range(len(columns[0].cells))]
    more = [f"… and {len(frame) - ROWS_SHOWN:,} more"] if len(frame) > ROWS_SHOWN else []
    more += [f"further columns: {', '.join(further)}"] if further else []
    return table_html(title, [c.header for c in columns], rows, [*more, *notes])


def table_html(title: str, headers: Sequence[str], rows: Sequence[Sequence[str]], notes: Sequence[str] = ()) -> str:
    """Cells as a small HTML table; the only place where HTML is made, so the only one where text is escaped."""
    left = [any(c and not NUMBER.match(c) for c in column) for column in zip(*rows, strict=True)] if rows else [False] * len(headers)
    side = [' style="text-align: left"' if words else "" for words in left]
    head = "".join(f"<th{s}>{html.escape(h)}</th>" for h, s in zip(headers, side, strict=True))
    body = "".join("<tr>" + "".join(f"<td{s}>{html.escape(c)}</td>" for c, s in zip(row, side, strict=True)) + "</tr>" for row in rows)
    given = "".join(f"<p>{html.escape(n)}</p>" for n in notes)
    return f"<div><p><b>{html.escape(title)}</b></p><table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>{given}</div>"
