"""Writes the tables of the documentation that are made from the code. `make docs` runs it; a test holds them to it."""

from __future__ import annotations

import dataclasses
import importlib
import inspect
import re
import typing
from pathlib import Path

from chaff.decide.api import StageCall
from chaff.decide.named_plans import plan_schema
from chaff.decide.selection import json_schema
from chaff.decide.stages import STAGES
from chaff.methods.importance.way import WAYS
from chaff.methods.relevance.catalogue import page_rows
from chaff.methods.search.strategy import STRATEGIES
from chaff.metrics import METRICS
from chaff.models.named import MODELS

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
        "`--set KEY=VALUE` changes a setting of the stage that a command runs, `chaff select --set STAGE.KEY=VALUE` of any.",
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


if __name__ == "__main__":
    (HERE.parent / "src" / "chaff" / "__init__.pyi").write_text(stub(), encoding="utf-8")
    (HERE / "choices.md").write_text(choices_page(), encoding="utf-8")
    PAGE.write_text(with_rows(PAGE.read_text(encoding="utf-8")), encoding="utf-8")
    (HERE / "plan.schema.json").write_text(plan_schema(), encoding="utf-8")
    (HERE / "selection.schema.json").write_text(json_schema(), encoding="utf-8")
