"""Rows and frames as terminal tables: laid out to the window, numbers whole, what does not fit named."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING, Any

from chaff.cli.console import Show
from chaff.results.digits import cell, figure
from chaff.results.shown import Cell, Styled, columns_of, lay_out
from chaff.visible import listed

if TYPE_CHECKING:
    import pandas as pd

    from chaff.results.findings import Findings

HEAD = 15


def grid(show: Show, headers: Sequence[str], rows: Sequence[Sequence[Cell]], required: Collection[str] = (), names: int = 1) -> None:
    """Rows under quiet headers; columns that do not fit are named below, those `required` are always there."""
    laid = lay_out(columns_of(headers, rows, required, names), show.width)
    for line in laid.lines:
        show.pieces(line)
    if laid.left_out:
        show.note(f"columns hidden: {', '.join(laid.left_out)} (widen the terminal, or use --out or --format json)")


def word(verdict: str) -> Styled:
    return Styled(verdict, verdict)


def rest(show: Show, shown: int, of: int, where: str = "--all lists them") -> None:
    if shown < of:
        show.note(f"… and {of - shown:,} more; {where}")


def title(show: Show, text: str) -> None:
    show.say()
    show.say(f" {text}", "bold")


def notes(show: Show, options: Sequence[str]) -> None:
    for note in options:
        show.note(note)


def count(number: int, word: str) -> str:
    """`1 pair`, `3 pairs`."""
    return f"{number:,} {word}" + ("" if number == 1 else "s")


def frame_grid(show: Show, heading: str, frame: pd.DataFrame) -> None:
    """A small frame as it is."""
    title(show, heading)
    rows = []
    for key, r in frame.iterrows():
        keys = [str(k) for k in key] if isinstance(key, tuple) else [str(key)]
        rows.append([*keys, *[cell(str(c), r[c]) for c in frame.columns]])
    headers = [str(c).replace("_", " ").replace("r squared", "R²") for c in frame.columns]
    grid(show, [*[str(n or "") for n in frame.index.names], *headers], rows)


def with_interval(column: str, row: Any) -> str:
    """`0.308 (0.263 to 0.351)` where there is an interval."""
    low, high = row.get(f"{column}_low"), row.get(f"{column}_high")
    shown = cell(column, row[column])
    bounded = row.get("p_at_most") == 1 and (column.startswith("chi_square_") or row.get("statistic") == "chi_square")
    if bounded and column in ("p", "q", "chi_square_p", "chi_square_q") and not shown.startswith("<"):
        shown = f"≤ {shown}"
    return f"{shown} ({figure(low, 2)} to {figure(high, 2)})" if low is not None and low == low and high == high else shown


def limits_grid(show: Show, tried: pd.DataFrame, by: str, total: int) -> None:
    """Several limits at once."""
    title(show, f"What if: thresholds on {by.replace('_', ' ')} (nothing is recomputed)")
    rows: list[list[Cell]] = []
    for limit, row in tried.iterrows():
        goes = row["goes_here"]
        named = listed(goes, 6)
        rows.append([f"{limit:g}", f"{row['stay']} of {total} kept", f"dropped at this step: {named}" if goes else ""])
    grid(show, ["limit", "", "says"], rows)


def verdict_rows(result: Findings, everything: bool) -> tuple[list[list[Cell]], int]:
    """(rows of what is not simply kept, how many there are)."""
    aside = result.frame[result.frame["verdict"] != "keep"]
    subset = aside if everything else aside.head(HEAD)
    rows: list[list[Cell]] = [
        [word(r["verdict"]), str(f), r["figure"], str(r["limit"]), r["reason"] + blocked(r)] for f, r in subset.iterrows()
    ]
    return rows, len(aside)


def blocked(row: Any) -> str:
    return " · blocked" if row["verdict"] == "review" and not row["stays"] else ""
