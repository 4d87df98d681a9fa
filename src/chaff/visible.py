"""Text from a table is never control: what a terminal or an editor would obey is shown as an escape."""

from __future__ import annotations

import html
import json
import unicodedata
from collections.abc import Sequence
from typing import Any

SPACES = "Zs"  # blanks of other widths change nothing but the look


def visible(text: str, long: bool = False) -> str:
    r"""The text on one line, with line breaks, control codes and marks of direction as escapes.

    long : four digits for all, as JSON and TOML read them back.

    >>> print(visible("a\x1b[31m\nb\u202e"))
    a\x1b[31m\x0ab\u202e
    >>> print(visible("a\tb", long=True))
    a\u0009b
    """
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() or unicodedata.category(c) == SPACES else _escape(c, long) for c in text)


class Shown:
    """A result that the user reads: its short text is what Python and a notebook show of it, unless it has a table of its own."""

    def __repr__(self) -> str:
        return str(self)

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(str(self))}</pre>"


def listed(names: Sequence[str], most: int = 4) -> str:
    """The first of these names, and how many more there are.

    >>> listed(["a", "b", "c", "d"], 2)
    'a, b and 2 more'
    """
    return ", ".join(names[:most]) + (f" and {len(names) - most:,} more" if len(names) > most else "")


def _escape(c: str, long: bool) -> str:
    n = ord(c)
    if n > 0xFFFF:
        return f"\\U{n:08x}"
    return f"\\u{n:04x}" if long or n > 0xFF else f"\\x{n:02x}"


def visible_lines(text: str) -> str:
    """The same for a message whose further lines, if any, are indented by two."""
    return "\n  ".join(visible(part) for part in text.split("\n  "))


def toml_text(document: Any) -> str:
    """TOML whose strings, all of them in double quotes, hold what is not to be seen as escapes."""
    import tomlkit

    return "\n".join(visible(line, long=True) for line in tomlkit.dumps(document).split("\n"))


def json_text(value: Any) -> str:
    """Indented JSON, letters of all scripts as they are and everything else escaped."""
    lines = json.dumps(value, ensure_ascii=False, indent=1).split("\n")
    return "\n".join(line if line.isprintable() else "".join(c if c.isprintable() else _as_json(c) for c in line) for line in lines)


def _as_json(c: str) -> str:
    return json.dumps(c)[1:-1]
