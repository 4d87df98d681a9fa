"""Plans as files that people read: fitted to a table with comments, and pins written into them with their comments kept."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from chaff.decide.plan import Plan, plan_from
from chaff.errors import PlanError
from chaff.files import reads, write_text
from chaff.results.findings import Findings
from chaff.results.verdict import Pin
from chaff.table.table import Table
from chaff.visible import toml_text, visible


def fitted_plan(plan: Plan, table: Table, screened: Findings, pins: Sequence[Pin], held: int) -> str:
    """The plan's text for one table: roles, kinds as found, what the screen advises as lines to uncomment, the stages.

    Parameters
    ----------
    table : Table
        All rows.
    screened : Findings
        Of the rows that are not held out, with verdicts.
    """
    import tomlkit

    document = tomlkit.document()
    rows = f"{len(table):,} rows, {len(table.features)} candidate features"
    looked = f"; column facts use {len(table) - held:,} rows; {held:,} are the holdout" if held else ""
    document.add(_comment(f"Plan for {table.label}: {rows}{looked}."))
    document.add(tomlkit.comment("Lines that begin with # are advice: uncomment what applies. Every chaff command takes --plan."))
    document.add(tomlkit.nl())
    document.add("table", _table_section(table, screened))
    lines = plan.as_mapping()
    score = tomlkit.table()
    for key, value in lines["score"].items():
        score.add(key, value)
    document.add("score", score)
    stages = tomlkit.aot()
    for entry in lines["stage"]:
        stage = tomlkit.table()
        for key, value in entry.items():
            stage.add(key, value)
        stages.append(stage)
    document.add("stage", stages)
    if pins:
        document.add("pin", _pin_entries(pins))
    text = toml_text(document)
    return text + _review_lines(screened, {p.feature for p in pins})


def _comment(text: str) -> Any:
    """A comment of one line, whatever names of columns and files hold."""
    import tomlkit

    return tomlkit.comment(visible(text, long=True))


def _table_section(table: Table, screened: Findings) -> Any:
    import tomlkit

    section = tomlkit.table()
    for key, value in table.terms.as_mapping().items():
        section.add(key, value)
    if "ids" not in table.terms.as_mapping():
        ids = [str(f) for f, r in screened.frame.iterrows() if r["id_why"] and r["verdict"] == "review"]
        if ids:
            section.add(_comment(f"ids = {_listed(ids)}   # {screened.frame.loc[ids[0], 'reason']}"))
    for line in [*_advice_lines(screened), *_kind_lines(table)]:
        section.add(_comment(line))
    section.add(tomlkit.nl())
    return section


def _advice_lines(screened: Findings) -> list[str]:
    """What the screen advises, one kind of advice a block."""
    frame = screened.frame
    flags = [(str(f), r) for f, r in frame.iterrows() if r["advice_kind"] == "absence"]
    codes = [(str(f), r) for f, r in frame.iterrows() if r["advice_kind"] in ("codes", "word codes")]
    levels = [str(f) for f, r in frame.iterrows() if r["advice_kind"] == "levels"]
    ordered = [str(f) for f, r in frame.iterrows() if r["advice_kind"] == "ordered"]
    groups = [str(f) for f, r in frame.iterrows() if r["groups_words"]]
    out = []
    if flags:
        out.append(f"missing_flags = {_listed([f for f, _ in flags])}   # a feature that says whether it is missing")
        out += [f"    {f}: {r['missing_share']:.0%} missing, and {r['absence_words']}" for f, r in flags]
        out.append("fill = { " + ", ".join(f"{_key(f)} = 0" for f, _ in flags) + " }   # where missing means zero or none")
    if codes:
        entries = ", ".join(f"{_key(f)} = {_listed(list(r['advice_values']))}" for f, r in codes)
        out.append(f"missing_codes = {{ {entries} }}   # values that may stand for missing")
    if levels or ordered:
        kinds = dict.fromkeys(levels, "category") | dict.fromkeys(ordered, "ordered")
        why = " and ".join(
            ["few whole numbers: codes, not amounts?"] * bool(levels) + ["words in an order, read as one number"] * bool(ordered)
        )
        out.append("kinds = { " + ", ".join(f'{_key(f)} = "{kind}"' for f, kind in kinds.items()) + f" }}   # {why}")
    if groups:
        out.append(f"groups = {_quoted(groups[0])}   # its rows seem to belong together")
    return out


def _kind_lines(table: Table) -> list[str]:
    """Kinds as found, to be read; what is wrong is set with kinds = { … }."""
    by_kind: dict[str, list[str]] = {}
    for name, kind in table.kinds.items():
        by_kind.setdefault(kind, []).append(name)
    out = ["kinds as found:"]
    for result, names in by_kind.items():
        out += textwrap.wrap(
            f"{result}: {', '.join(visible(n, long=True) for n in names)}",
            118,
            initial_indent="    ",
            subsequent_indent="        ",
            break_on_hyphens=False,
        )
    return out


def _review_lines(screened: Findings, pinned: set[str]) -> str:
    """What the user should look at, each with the pins that would settle it."""
    to_review = [(str(f), r) for f, r in screened.frame.iterrows() if r["verdict"] == "review" and str(f) not in pinned]
    if not to_review:
        return ""
    lines = ["", "# Review these features; pin each one to keep or drop it.", ""]
    for name, row in to_review:
        lines += [
            f"# {visible(_key(name), long=True)}: {visible(row['reason'], long=True)}"
            + ("" if row["stays"] else " (blocked unless pinned in)")
        ]
        verdict = "drop" if not row["stays"] else "keep"
        lines += ["# [[pin]]", f"# feature = {visible(_quoted(name), long=True)}", f'# verdict = "{verdict}"', '# because = ""', ""]
    return "\n".join(lines)


def read_pins(path: str | Path) -> tuple[Pin, ...]:
    """Pins from a TOML file that holds nothing else.

    Raises
    ------
    PlanError
        Everything that is wrong with it in one go.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    file = Path(path)
    try:
        data = tomlkit.parse(file.read_text(encoding="utf-8")).unwrap()
    except FileNotFoundError as error:
        raise PlanError(f"no such file of pins: {file}") from error
    except (TOMLKitError, UnicodeDecodeError, OSError) as error:
        raise PlanError(f"{file.name} holds no pins: {error}") from error
    reads(file)
    other = [k for k in data if k != "pin"]
    if other or not data.get("pin"):
        raise PlanError(f"{file.name} must hold [[pin]] and nothing else" + (f", not '{other[0]}'" if other else ""))
    return plan_from({"stage": [{"use": "screen"}], "pin": data["pin"]}, file.name).pins


def add_pins(path: str | Path, pins: Iterable[Pin]) -> None:
    """Write pins into a plan file; its comments and everything else stay as they are. A pin on a feature replaces an older one.

    Raises
    ------
    PlanError
        When the file is no plan, before or after.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    file = Path(path)
    try:
        document = tomlkit.parse(file.read_text(encoding="utf-8"))
    except (TOMLKitError, UnicodeDecodeError, OSError) as error:
        raise PlanError(f"{file.name} cannot take a pin: {error}") from error
    new = list(pins)
    named = {p.feature for p in new}
    entries = _pin_entries(new)
    if "pin" not in document:
        document.add("pin", entries)
    else:
        held = document["pin"]
        for k in reversed(range(len(held))):
            if held[k].get("feature") in named:
                del held[k]
        for entry in entries:
            held.append(entry)
    plan_from(document.unwrap(), file.name)
    write_text(file, tomlkit.dumps(document), own=True)


def _pin_entries(pins: Iterable[Pin]) -> Any:
    import tomlkit

    entries = tomlkit.aot()
    for pin in pins:
        entry = tomlkit.table()
        entry.add("feature", pin.feature)
        entry.add("verdict", pin.verdict)
        entry.add("because", pin.because)
        entries.append(entry)
    return entries


def _listed(values: Sequence[str]) -> str:
    return "[" + ", ".join(_quoted(v) for v in values) + "]"


def _quoted(text: str) -> str:
    import tomlkit

    return tomlkit.item(text).as_string()


def _key(name: str) -> str:
    bare = name.isascii() and name.replace("_", "").replace("-", "").isalnum()
    return name if bare else _quoted(name)
