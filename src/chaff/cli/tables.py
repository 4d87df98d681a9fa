"""Findings as terminal tables: the head and the count of the rest, never a wall."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from chaff.cli.console import DROP, KEEP, LOOK, QUIET, Show
from chaff.results.digits import cell, figure, share, two

if TYPE_CHECKING:
    import pandas as pd

    from chaff.results.findings import Findings

HEAD = 15
WORDY = ("reason", "explained by", "in words", "columns")
STYLES = {"keep": KEEP, "drop": DROP, "look": LOOK}


def grid(show: Show, headers: list[str], rows: list[list[str]], left: int = 1, styles: list[str] | None = None) -> None:
    """Rows under quiet headers; the first `left` columns and words to the left, numbers to the right."""
    from rich.markup import escape
    from rich.table import Table as RichTable

    table = RichTable.grid(padding=(0, 2), pad_edge=False)
    for k, name in enumerate(headers):
        wordy = (
            k < left
            or name in WORDY
            or name
            in ("kind", "reason", "why", "statistic", "partner", "what", "commonest", "verdict", "why", "move", "goes", "second", "")
        )
        table.add_column(justify="left" if wordy else "right", no_wrap=name not in ("why", "what", "", *WORDY), overflow="fold")
    if any(headers):
        table.add_row(*[f"[{QUIET}]{escape(h)}[/]" for h in headers])
    for k, row in enumerate(rows):
        table.add_row(*[c if c.startswith("[#") else escape(c) for c in row], style=styles[k] if styles else "")
    from rich.padding import Padding

    show.console.print(Padding(table, (0, 0, 0, 1)))


def word(verdict: str) -> str:
    return f"[{STYLES[verdict]}]{verdict}[/]" if STYLES[verdict].startswith("#") else verdict


def rest(show: Show, shown: int, of: int, where: str = "--all lists them") -> None:
    if shown < of:
        show.say(f"   … and {of - shown:,} more; {where}", QUIET)


def screen_tables(show: Show, found: Findings, everything: bool, by: str | None) -> None:
    """What was set aside and why, what the other columns hold, the rows, and advice."""
    frame = found.frame
    aside = frame[frame["verdict"] != "keep"]
    stays = int(frame["stays"].sum())
    looks = int((frame["verdict"] == "look").sum())
    show.say()
    show.say(f" {len(frame)} columns → {stays}: {int((frame['verdict'] == 'drop').sum())} set aside, {looks} to look at", "bold")
    if len(aside):
        show.say()
        some = aside if everything else aside.head(HEAD)
        rows = [
            [word(r["verdict"]), str(f), r["figure"], f"(limit {r['limit']})" if r["limit"] else "", r["reason"] + _barred(r)]
            for f, r in some.iterrows()
        ]
        grid(show, ["", "feature", "figure", "limit", "reason"], rows, left=4)
        rest(show, len(some), len(aside))
    _facts(show, found, everything, by)
    _rows(show, found.more["rows"])
    _advice(show, frame, everything)


def _barred(row: Any) -> str:
    return " · barred" if row["verdict"] == "look" and not row["stays"] else ""


def _facts(show: Show, found: Findings, everything: bool, by: str | None) -> None:
    frame = found.ranked(by) if by else found.frame
    kept = frame if everything else frame[frame["verdict"] == "keep"]
    some = kept if everything else kept.head(HEAD)
    headers = ["feature", "kind", "rows", "missing", "distinct", "lowest", "highest", "commonest", "", "sd", "skew", "outlying", "R² alone"]
    rows = [
        [
            str(f),
            r["kind"] + (f", {r['unit']}" if r["unit"] else ""),
            figure(r["rows"]),
            share(r["missing_share"]),
            figure(r["distinct"]),
            figure(r["low"]),
            figure(r["high"]),
            str(r["top_value"])[:18],
            share(r["top_share"]),
            figure(r["spread"]),
            two(r["skew"]),
            share(r["outlying_share"]),
            two(r["single_r2"]),
        ]
        for f, r in some.iterrows()
    ]
    show.say()
    grid(show, headers, rows)
    rest(show, len(some), len(kept))


def _rows(show: Show, checks: pd.DataFrame) -> None:
    show.say()
    show.say(" Rows", "bold")
    grid(show, ["", "", ""], [[str(c), figure(r["count"]), r["words"]] for c, r in checks.iterrows()], left=1)


def _advice(show: Show, frame: pd.DataFrame, everything: bool) -> None:
    said = frame[frame["advice"] != ""]
    if said.empty:
        return
    show.say()
    show.say(" Advice", "bold")
    some = said if everything else said.head(HEAD)
    grid(show, ["", ""], [[str(f), r["advice"]] for f, r in some.iterrows()], left=2)
    rest(show, len(some), len(said))


def relevance_table(show: Show, found: Findings, by: str, everything: bool) -> None:
    """The leading features with the statistics that fit in the window's width."""
    frame = found.ranked(by)
    some = frame if everything else frame.head(HEAD)
    columns = _fitting_columns(found, by, show.console.width)
    headers = ["", "feature", *[c.replace("_", " ") for c in columns]]
    verdicts = "verdict" in frame.columns
    rows = []
    for place, (f, r) in enumerate(some.iterrows(), 1):
        rows.append([str(place), str(f), *[_with_interval(c, r) for c in columns], *([word(r["verdict"])] if verdicts else [])])
    show.say()
    grid(show, [*headers, *(["verdict"] if verdicts else [])], rows, left=2)
    rest(show, len(some), len(frame))
    left_out = [c for c in found.better if c in frame.columns and c not in columns and not c.endswith(("_p", "_q"))]
    if left_out:
        show.say(f"   also measured: {', '.join(left_out)}; --by shows one, --out FILE saves all", QUIET)


def scaled_table(show: Show, found: Findings, by: str, everything: bool) -> None:
    """Every measure from 0 (the worst feature) to 1 (the best), side by side."""
    scaled = found.scaled().loc[found.ranked(by).index].dropna(axis=1, how="all")
    some = scaled if everything else scaled.head(HEAD)
    show.say()
    show.say(" From 0, the worst feature, to 1, the best", "bold")
    room, columns = show.console.width - 4 - max(len(str(f)) for f in some.index), []
    for name in scaled.columns:
        room -= len(name) + 2
        if room > 0:
            columns.append(name)
    rows = [[str(f), *["" if r[c] != r[c] else f"{r[c]:.2f}" for c in columns]] for f, r in some.iterrows()]
    grid(show, ["feature", *[c.replace("_", " ") for c in columns]], rows)
    rest(show, len(some), len(scaled))


def _fitting_columns(found: Findings, by: str, width: int) -> list[str]:
    frame = found.frame
    first = ["kind", "rows", "statistic", "effect_size", "p", "q"]
    ranking = [c for c in found.better if not c.endswith(("_p", "_q")) and c not in first and c in frame.columns]
    own = [] if by in first else [by, f"{by}_p", f"{by}_family_p", f"{by}_q"]  # what was asked for comes before the rest
    order = [*first[:4], *own, *first[4:], *ranking]
    order = [c for c in dict.fromkeys(order) if c in frame.columns and (frame[c].notna() & (frame[c].astype(str) != "")).any()]
    room = width - 6 - max(len(str(f)) for f in frame.index) - 10
    out: list[str] = []
    for c in order:
        wide = max(len(c), max((len(_with_interval(c, r)) for _, r in frame.head(HEAD).iterrows()), default=0)) + 2
        if room < wide:
            break
        room -= wide
        out.append(c)
    return out


def _with_interval(column: str, row: Any) -> str:
    """`0.308 (0.263 to 0.351)` where there is an interval."""
    low, high = row.get(f"{column}_low"), row.get(f"{column}_high")
    shown = cell(column, row[column])
    return f"{shown} ({figure(low, 2)} to {figure(high, 2)})" if low is not None and low == low and high == high else shown


def limits_table(show: Show, tried: pd.DataFrame, by: str, total: int) -> None:
    """Several limits at once."""
    show.say()
    show.say(f" What if: limits on {by.replace('_', ' ')}, nothing computed again", "bold")
    rows = []
    for limit, row in tried.iterrows():
        goes = row["goes_here"]
        names = ", ".join(goes[:6]) + (f" and {len(goes) - 6} more" if len(goes) > 6 else "")
        rows.append([f"{limit:g}", f"{row['stay']} of {total} stay", f"goes here: {names}" if goes else ""])
    grid(show, ["limit", "", ""], rows, left=1)


def pairs_table(show: Show, found: Findings, everything: bool) -> None:
    pairs = found.more["pairs"]
    over = pairs[pairs["beyond_chance"]]
    show.say()
    show.say(f" Pairs that tell more together than each alone: {len(over)} beyond chance", "bold")
    some = pairs if everything else pairs.head(max(min(len(over), HEAD), 5))
    rows = [
        [
            r["first"],
            r["second"],
            share(r["share"]),
            figure(r["f"]),
            cell("f_p", r["f_p"]),
            figure(r["score"]),
            word("look") if r["beyond_chance"] else "within chance",
        ]
        for _, r in some.iterrows()
    ]
    grid(show, ["first", "second", "share of the target", "F", "p", "score", ""], rows, left=2)
    rest(show, len(some), len(pairs))
