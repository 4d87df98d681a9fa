"""Writes the tables of the documentation that are made from the code. `make docs` runs it; a test holds them to it."""

from __future__ import annotations

import dataclasses
import importlib
import inspect
import re
import typing
from pathlib import Path

import click

from chaff.decide.api import StageCall
from chaff.decide.named_plans import plan_schema
from chaff.decide.selection import json_schema
from chaff.decide.stages import STAGES
from chaff.methods.importance.way import WAYS
from chaff.methods.relevance.catalogue import page_rows
from chaff.methods.search.strategy import STRATEGIES
from chaff.metrics import METRICS
from chaff.models.named import MODELS
from chaff.table.terms import Terms

HERE = Path(__file__).parent
PAGE = HERE / "statistics.md"


def with_rows(text: str) -> str:
    """The page of statistics with the rows of its table as the catalogue has them."""
    lines = text.splitlines()
    first = next(k for k, line in enumerate(lines) if line.startswith("| ---")) + 1
    last = next(k for k in range(first, len(lines) + 1) if k == len(lines) or not lines[k].startswith("|"))
    return "\n".join([*lines[:first], *page_rows(), *lines[last:]]) + "\n"


def choices_page() -> str:
    """Every model, strategy, way of importance and metric, with its settings and their defaults, from the registries."""
    parts = [
        "# Models, strategies, importance measures, stages and metrics",
        "Made by `make docs` from the code. Each can be named in a plan, on the command line and in Python by its name, or with settings:",
        '`{ name = "forest", trees = 300 }`, `chaff.Forest(trees=300)`. What a setting means stands in the docstring of the class.',
    ]
    for title, registry in (("Models", MODELS), ("Search strategies", STRATEGIES), ("Importance measures", WAYS)):
        parts += ["", f"## {title}", "", "| name | class | what it does | settings and defaults |", "| --- | --- | --- | --- |"]
        for name, cls in registry.choices.items():
            parts.append(_row(name, cls))
    parts += [
        "",
        "## Stages of a plan",
        "",
        "Plain settings are options of the command that runs the stage (`missing_share` is `--missing-share`; `off` switches a",
        "limit off);",
        "`chaff select --set STAGE.KEY=VALUE` changes any setting of any stage.",
    ]
    parts += ["", "| stage | class | what it does | settings and defaults |", "| --- | --- | --- | --- |"]
    parts += [_row(use, cls) for use, cls in sorted(STAGES.items())]
    parts += ["", "## Metrics", "", "| name | shown as | better | target |", "| --- | --- | --- | --- |"]
    for m in sorted(METRICS.values(), key=lambda m: m.name):
        target = {"regression": "a number", "classification": "classes", "both": "a number or classes"}[m.task]
        target, better = "two classes" if m.two_classes_only else target, "higher" if m.higher_is_better else "lower"
        parts.append(f"| `{m.name}` | {m.label} | {better} | {target} |")
    return "\n".join(parts) + "\n"


def _row(name: str, cls: type) -> str:
    first = (cls.__doc__ or "").strip().split("\n\n")[0].replace("\n", " ").replace("|", "\\|")
    settings = ", ".join(f"`{f.name} = {default_of(f)}`" for f in dataclasses.fields(cls) if f.init and f.name != "name")
    return f"| `{name}` | `chaff.{cls.__name__}` | {' '.join(first.split())} | {settings} |"


def default_of(field: dataclasses.Field[object]) -> str:
    value = field.default if field.default is not dataclasses.MISSING else field.default_factory()  # type: ignore[misc]
    return f"{value:g}" if isinstance(value, float) else str(value) if not isinstance(value, str) else f'"{value}"'


def stub() -> str:
    """The typed face of `import chaff`, whose names are loaded when they are first used: every public name from where it is defined,
    the calls that are made from stages with their parameters."""
    import chaff
    from chaff.decide import api

    found = {name: module for name, module in chaff._PUBLIC.items() if module != api.__name__}
    for name in dir(chaff):
        if name not in chaff._PUBLIC and name[:1].isupper():
            found[name] = getattr(chaff, name).__module__
    needed: dict[str, str] = {}
    calls = [signature_of(name, spec, needed) for name, spec in sorted(api.CALLS.items())]
    own = [f"from {module} import {name}" for name, module in sorted(needed.items(), key=lambda x: (x[1], x[0])) if name not in found]
    lines = [f"from {module} import {name} as {name}" for name, module in sorted(found.items(), key=lambda x: (x[1], x[0]))]
    rooms = [f"from chaff import {room} as {room}" for room in chaff._ROOMS]
    head = '"""Made by docs/make_tables.py: what a type checker reads in place of the lazy face."""'
    return "\n".join([head, "", *own, "", *rooms, *lines, "", "__version__: str", "", *calls, ""])


def signature_of(name: str, spec: StageCall, needed: dict[str, str]) -> str:
    """The call as a stub writes it; `needed` receives the names that its annotations use, and their modules."""
    from chaff.decide import api

    spaces = [vars(importlib.import_module(m)) for m in (spec.stage_class.__module__, api.__name__, "chaff.models.protocols")]
    out, kind = [], inspect.Parameter.POSITIONAL_OR_KEYWORD
    for p in api.parameters_of(spec):
        if p.kind != kind:
            out, kind = [*out, "*"], p.kind
        hint = str(p.annotation)
        for word in set(re.findall(r"[A-Z]\w+", re.sub(r"'[^']*'|\"[^\"]*\"", "", hint))) - {"None"}:
            thing = next(space[word] for space in spaces if word in space)
            if typing.get_origin(thing) is typing.Literal:
                hint = hint.replace(word, f"Literal[{', '.join(map(repr, typing.get_args(thing)))}]")
                thing, word = typing.Literal, "Literal"
            needed[word] = "chaff.work" if word == "Workers" else thing.__module__
        out.append(f"{p.name}: {hint}" + ("" if p.default is p.empty else " = ..."))
    return f"def {name}({', '.join(out)}) -> Findings: ..."


def commands_page() -> str:
    """Every command with all its options, by their headings, from the options themselves."""
    from chaff.cli.help_pages import groups_of
    from chaff.cli.main import GROUPS, chaff

    lines = ["# Commands", "", "Made by `make docs` from the options. `chaff COMMAND --help` shows the everyday ones, `--help-all` all."]
    shared: dict[str, list[str]] = {}
    for heading, group in GROUPS.items():
        for name, (_, summary) in group.items():
            command = chaff.get_command(None, name)  # type: ignore[arg-type]
            ctx = click.Context(command, info_name=f"chaff {name}")
            usage = " ".join(command.collect_usage_pieces(ctx))
            lines += ["", f"## chaff {name}", "", f"*{heading}.* {summary}", "", "```", f"chaff {name} {usage}"]
            lines += [*(f"# {line}" for line in command.examples), "```", "", *inspect.cleandoc(command.help or "").split("\n"), ""]
            for title, options in groups_of(command, ctx).items():
                rows = [_option_row(p, ctx) for p in options]
                if title in SHARED and shared.setdefault(title, rows) == rows and name != "screen":
                    continue
                lines += [f"**{title}**", "", "| option | meaning |", "| --- | --- |", *rows, ""]
            if name not in ("screen", "help", "demo") and any(t in groups_of(command, ctx) for t in SHARED):
                lines += ["Target, columns, reading, plan and pins: as of `chaff screen`.", ""]
    return "\n".join(lines).rstrip() + "\n"


SHARED = ("Target", "Columns", "Reading the file", "Plan and pins")


def _option_row(option: click.Option, ctx: click.Context) -> str:
    names, text = option.get_help_record(ctx) or ("", "")
    return f"| `{_cell(names)}` | {_cell(text)} |"


def _cell(text: str) -> str:
    return " ".join(text.replace("|", "\\|").replace("<", "&lt;").split())


def plans_page() -> str:
    """Every key of a plan with its type, default and meaning."""
    from chaff.decide.named_plans import NAMED
    from chaff.declared import declared

    lines = [
        "# Plans",
        "",
        "Made by `make docs`. A plan is a TOML file: `[table]`, `[score]`, `[[stage]]`, `[[pin]]`;",
        "see [write a plan](../howto/plan-by-hand.md).",
    ]
    lines += ["", "## Plans by name", "", "| name | what it does |", "| --- | --- |", *(f"| `{n}` | {w} |" for n, (w, _) in NAMED.items())]
    lines += ["", "## `[table]`", "", "| key | type | meaning |", "| --- | --- | --- |"]
    for f in dataclasses.fields(Terms):
        lines.append(f"| `{f.name}` | {_cell(str(f.type))} | {_cell(f.metadata['about'])} |")
    parts = [("`[score]`", declared("chaff.decide.plan", "Scoring"))]
    parts += [(f'`[[stage]]` `use = "{use}"`', declared(cls.__module__, cls.__name__)) for use, cls in sorted(STAGES.items())]
    for title, part in parts:
        lines += ["", f"## {title}", "", part.summary, "", "| key | default | type | meaning |", "| --- | --- | --- | --- |"]
        lines += [f"| `{f.name}` | `{_cell(f.default)}` | {_cell(f.hint)} | {_cell(f.about)} |" for f in part.fields]
    lines += ["", "## `[[pin]]`", "", "`feature`, `verdict` (`keep` or `drop`), `because`."]
    return "\n".join(lines) + "\n"


CALLS = {
    "Open a table": ("open_table", "open_arrays", "derive_target", "Table"),
    "Look": (
        "screen",
        "relevance",
        "triage",
        "correlations",
        "associations",
        "clusters",
        "inflation",
        "dependencies",
        "components",
        "overlaps",
    ),
    "Prune": ("prune_correlations", "prune_inflation", "prune_linear"),
    "Linear models": ("linear_summary", "by_hand", "column_worth", "try_sizes", "residuals", "LinearSummary", "ByHand", "Residuals"),
    "Importance and chance": ("importance", "chance_baseline", "twin_test", "stability", "knockoffs"),
    "Search and compare": (
        "search",
        "runs",
        "compare",
        "try_scales",
        "two_models",
        "keep_up",
        "SubsetScorer",
        "SearchResult",
        "Comparison",
    ),
    "Plan and select": ("select", "read_plan", "named_plan", "built_in_plan", "pin_keep", "pin_drop", "Plan", "Run", "Honest"),
    "Selections": ("make_selection", "read_selection", "recheck", "changes", "Selection", "Explanation", "Recheck", "Changes"),
    "Results": ("Findings", "read_findings", "write_report", "Evaluation", "Everywhere", "Protection"),
}


def calls_page() -> str:
    """Every public name by what it is for; what is in no list comes last."""
    import chaff

    lines = ["# Calls", "", "Made by `make docs`. `import chaff` first. Examples run in the tests."]
    names = set(chaff._PUBLIC)
    listed = {n for group in CALLS.values() for n in group}
    rest = sorted(n for n in names - listed)
    choices = sorted(c.__name__ for r in (MODELS, STRATEGIES, WAYS) for c in r.choices.values()) + sorted(
        c.__name__ for c in STAGES.values()
    )
    groups = {**CALLS, "Further": tuple(rest), "Models, strategies, importance measures, stages": tuple(dict.fromkeys(choices))}
    named = {title: [f"chaff.{n}" for n in group if hasattr(chaff, n)] for title, group in groups.items()}
    named["Models"] = [f"chaff.models.{n}" for n in ("fit", "out_of_bag", "adapt", "check")]
    named["Plots"] = [f"chaff.plots.{n}" for n in sorted(chaff.plots.__all__)]
    table = ["```{eval-rst}", ".. autosummary::", "   :toctree: calls", "   :nosignatures:", ""]
    for title, names in named.items():
        lines += ["", f"## {title}", "", *table, *(f"   {n}" for n in names), "```"]
    return "\n".join(lines) + "\n"


def notebook(script: Path) -> str:
    """A script in cells as a notebook without outputs; equal scripts give equal files."""
    import jupytext

    made = jupytext.read(script)
    made.metadata = {
        "kernelspec": {"display_name": "Python 3", "language": "python", "name": "python3"},
        "language_info": {"name": "python"},
    }
    for k, cell in enumerate(made.cells):
        cell["id"] = f"cell-{k}"
        cell["metadata"] = {}
    return str(jupytext.writes(made, fmt="ipynb")).rstrip() + "\n"


if __name__ == "__main__":
    for script in sorted((HERE.parent / "examples" / "notebooks").glob("*.py")):
        (HERE.parent / "examples" / f"{script.stem}.ipynb").write_text(notebook(script), encoding="utf-8")
    (HERE.parent / "src" / "chaff" / "__init__.pyi").write_text(stub(), encoding="utf-8")
    for name, page in (("commands", commands_page), ("plans", plans_page), ("calls", calls_page)):
        (HERE / "reference" / f"{name}.md").write_text(page(), encoding="utf-8")
    (HERE / "choices.md").write_text(choices_page(), encoding="utf-8")
    PAGE.write_text(with_rows(PAGE.read_text(encoding="utf-8")), encoding="utf-8")
    (HERE / "plan.schema.json").write_text(plan_schema(), encoding="utf-8")
    (HERE / "selection.schema.json").write_text(json_schema(), encoding="utf-8")
