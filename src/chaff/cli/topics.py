"""`chaff help TOPIC`: what a name means, from where it is defined."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Callable
from pathlib import Path

import click

from chaff.declared import Declared, declared_in
from chaff.errors import nearest

WIDTH = 78
CHOICES = {"models": "chaff.models", "strategies": "chaff.methods.search.strategies", "measures": "chaff.methods.importance.ways"}
LISTS = {
    "models": "what is fitted: --model NAME",
    "strategies": "how sets are searched: chaff search --strategy NAME",
    "measures": "how importance is measured: chaff importance --by NAME",
    "statistics": "how one feature is scored: chaff relevance --statistics NAME",
    "metrics": "how predictions are scored: --metric NAME",
    "plans": "plans by name: --plan NAME",
    "options": "the options that most commands share",
    "codes": "what the exit codes mean",
}
CODES = """Exit codes of every command:

  0    done
  1    a mistake in Chaff itself
  2    the command or a plan asks for something that cannot be
  3    the data cannot be used as they are
  4    a model failed
  5    workers in other processes failed
  10   chaff recheck: the selection is to be refitted
  20   chaff recheck: columns are to be selected again
  130  interrupted, 143 ended from outside; no partial file is left
"""


def topic_page(topic: str, ctx: click.Context) -> str:
    """What there is to say of a topic.

    Raises
    ------
    click.UsageError
        When it is none; the nearest is suggested.
    """
    name = topic.strip().lower()
    pages: dict[str, Callable[[], str]] = {
        **{key: lambda key=key: _list_of(key) for key in CHOICES},  # type: ignore[misc]
        "statistics": _statistics,
        "metrics": _metrics,
        "plans": _plans,
        "codes": lambda: CODES,
    }
    if name in pages:
        return pages[name]()
    if name.replace(" ", "-") in how_to():
        return how_to_page(name.replace(" ", "-"))
    for package in CHOICES.values():
        if (choice := _choice(package, name)) is not None:
            return _page_of(choice)
    if page := _statistic(name):
        return page
    known = [*pages, *how_to(), *(d for package in CHOICES.values() for d in declared_in(package)), *_statistic_names()]
    ctx.fail(f"there is no help on '{topic}'; chaff help lists the topics.{nearest(name, known)}")


def how_to() -> dict[str, Path]:
    """Question → its page: beside the code where it is installed, else in the docs of the clone."""
    here = Path(__file__).parent.parent
    folder = next((f for f in (here / "howto", here.parent.parent / "docs" / "howto") if f.is_dir()), None)
    return {} if folder is None else {p.stem: p for p in sorted(folder.glob("*.md")) if p.stem != "index"}


def how_to_page(name: str) -> str:
    """The page as plain text: headings, words, commands at an indent."""
    out, code = [], False
    for line in how_to()[name].read_text(encoding="utf-8").splitlines():
        if line.startswith("```"):
            code = not code
            continue
        plain = re.sub(r"\[([^\]]+)\]\([^)]+\)", r"\1", line).replace("`", "").replace("**", "")
        out.append(f"    {line}" if code else plain.lstrip("# ") if line.startswith("#") else plain)
    return "\n".join(out).strip() + "\n"


def overview() -> str:
    lines = [f"  {name:<12} {words}" for name, words in LISTS.items()]
    questions = textwrap.fill(", ".join(how_to()), WIDTH, initial_indent="  ", subsequent_indent="  ", break_on_hyphens=False)
    lines += ["", "Questions, each a page:", "", questions]
    example = "  chaff help genetic, chaff help forest, chaff help pearson_r: one of them with its settings and source"
    return "\n".join(["chaff help TOPIC", "", *lines, "", example, "  chaff COMMAND --help: the options of a command", ""])


def _choice(package: str, name: str) -> Declared | None:
    there = declared_in(package)
    return next((d for label, d in there.items() if name in (label.lower(), d.name.lower())), None)


def _wrapped(text: str, indent: int = 0) -> str:
    plain = " ".join(text.replace("``", "").replace("`", "").split())
    return textwrap.fill(plain, WIDTH, initial_indent=" " * indent, subsequent_indent=" " * indent, break_on_hyphens=False)


def _page_of(choice: Declared) -> str:
    """Summary, settings with defaults, notes and source, from the docstring of the class."""
    lines = [f"{choice.label}    chaff.{choice.name}", "", *(_wrapped(p) for p in choice.doc.get("", "").split("\n\n"))]
    if choice.fields:
        lines += ["", "Settings:"]
    for f in choice.fields:
        lines += [f"  {f.name} = {f.default}    {f.hint}", *([_wrapped(f.about, 6)] if f.about else [])]
    if "Notes" in choice.doc:
        lines += ["", *(_wrapped(p) for p in choice.doc["Notes"].split("\n\n"))]
    given = ", ".join([f'name = "{choice.label}"', *(f"{f.name} = …" for f in choice.fields[:1])])
    return "\n".join([*lines, "", f"As an option or in a plan: {choice.label}, or with settings '{{ {given} }}'", ""])


def _list_of(key: str) -> str:
    rows = [(label, d.summary) for label, d in declared_in(CHOICES[key]).items()]
    return _table(f"{key.capitalize()}, {LISTS[key]}", rows)


def _table(title: str, rows: list[tuple[str, str]]) -> str:
    wide = max(len(a) for a, _ in rows) + 4
    lines = [textwrap.fill(f"  {a:<{wide}}{b}", WIDTH, subsequent_indent=" " * (wide + 2), break_on_hyphens=False) for a, b in rows]
    return "\n".join([title, "", *lines, ""])


def _statistics() -> str:
    from chaff.methods.relevance.catalogue import ALL

    return _table(f"Statistics, {LISTS['statistics']}", [(s.name, s.label) for s in sorted(ALL, key=lambda s: s.name)])


def _statistic_names() -> list[str]:
    from chaff.methods.relevance.catalogue import NAMES

    return list(NAMES)


def _statistic(name: str) -> str:
    from chaff.methods.relevance.catalogue import NAMES, STATISTICS, described, fits_words, how_words, our_name

    ours = our_name(name)
    if ours not in NAMES:
        return ""
    s = STATISTICS[NAMES[ours]]
    row = described([s.name])[0]
    lines = [f"{s.name}    {s.label}", "", _wrapped(f"Fits: {fits_words(s)}. {row['better'][:1].upper()}{row['better'][1:]}.")]
    return "\n".join([*lines, *([_wrapped(how_words(s))] if how_words(s) else []), _wrapped(f"Source: {s.source}"), ""])


def _metrics() -> str:
    from chaff.metrics import METRICS

    target = {"regression": "a number", "classification": "classes", "both": "a number or classes"}
    rows = []
    for m in sorted(METRICS.values(), key=lambda m: m.name):
        fits, better = "two classes" if m.two_classes_only else target[m.task], "higher" if m.higher_is_better else "lower"
        rows.append((m.name, f"{m.label}: for {fits}, {better} is better"))
    return _table(f"Metrics, {LISTS['metrics']}", rows)


def _plans() -> str:
    from chaff.decide.named_plans import NAMED

    return _table(f"Plans, {LISTS['plans']}; chaff plan --start NAME prints one", [(name, words) for name, (words, _) in NAMED.items()])
