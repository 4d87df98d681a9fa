"""Writes the tables of the documentation that are made from the code. `make docs` runs it; a test holds them to it."""

from __future__ import annotations

from pathlib import Path

from chaff.decide.named_plans import plan_schema
from chaff.decide.selection import json_schema
from chaff.methods.relevance.catalogue import page_rows

HERE = Path(__file__).parent
PAGE = HERE / "statistics.md"


def with_rows(text: str) -> str:
    """The page of statistics with the rows of its table as the catalogue has them."""
    lines = text.splitlines()
    first = next(k for k, line in enumerate(lines) if line.startswith("| ---")) + 1
    last = next(k for k in range(first, len(lines) + 1) if k == len(lines) or not lines[k].startswith("|"))
    return "\n".join([*lines[:first], *page_rows(), *lines[last:]]) + "\n"


def stub() -> str:
    """The typed face of `import chaff`, whose names are loaded when they are first used: every public name from where it is defined."""
    import chaff

    found = dict(chaff._PUBLIC)
    for name in dir(chaff):
        if name not in found and name[:1].isupper():
            found[name] = getattr(chaff, name).__module__
    lines = [f"from {module} import {name} as {name}" for name, module in sorted(found.items(), key=lambda x: (x[1], x[0]))]
    rooms = [f"from chaff import {room} as {room}" for room in chaff._ROOMS]
    return "\n".join(
        [
            '"""Made by docs/make_tables.py: what a type checker reads in place of the lazy face."""',
            "",
            *rooms,
            *lines,
            "",
            "__version__: str",
            "",
        ]
    )


if __name__ == "__main__":
    (HERE.parent / "src" / "chaff" / "__init__.pyi").write_text(stub(), encoding="utf-8")
    PAGE.write_text(with_rows(PAGE.read_text(encoding="utf-8")), encoding="utf-8")
    (HERE / "plan.schema.json").write_text(plan_schema(), encoding="utf-8")
    (HERE / "selection.schema.json").write_text(json_schema(), encoding="utf-8")
