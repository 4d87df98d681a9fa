"""What the file of a frozen dataclass says of it, read without importing it: for help and options, which have to be quick."""

from __future__ import annotations

import ast
import importlib.util
import inspect
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path


@dataclass(frozen=True)
class DeclaredField:
    """A setting: its name, type and default as the file writes them, and what the docstring says of it."""

    name: str
    hint: str
    default: str
    about: str


@dataclass(frozen=True)
class Declared:
    """A class: its name, its docstring by headings (what stands before the first is under the empty one), and its settings."""

    name: str
    label: str
    """The name that it goes by in plans and on the command line."""
    doc: dict[str, str]
    fields: tuple[DeclaredField, ...]

    @property
    def summary(self) -> str:
        return " ".join(self.doc.get("", "").split("\n\n")[0].split())


def sections(text: str) -> dict[str, str]:
    """A docstring by its headings; what stands before the first is under the empty one."""
    pieces = re.split(r"^(\w+)\n-{3,}\n", text, flags=re.M)
    return {name: body.strip("\n") for name, body in zip(["", *pieces[1::2]], pieces[::2], strict=True)}


def entries(text: str) -> list[str]:
    """The parameters of a section, each with its description."""
    return [e.rstrip() for e in re.split(r"\n(?=\S)", text) if e.strip()]


def declared(module: str, name: str) -> Declared:
    """A class of a module by its name.

    >>> [f.name for f in declared("chaff.methods.search.strategies.floating", "Floating").fields]
    ['size', 'direction', 'patience']
    """
    return next(d for d in _in_file(_file_of(module)) if d.name == name)


@cache
def declared_in(package: str) -> dict[str, Declared]:
    """The choices in the files of a package, by the name each goes by, in the order of these names."""
    folder = _file_of(package).parent
    every = [d for file in sorted(folder.glob("*.py")) for d in _in_file(file) if d.label]
    return {d.label: d for d in sorted(every, key=lambda d: d.label)}


def _file_of(module: str) -> Path:
    spec = importlib.util.find_spec(module)
    assert spec is not None and spec.origin is not None, module
    return Path(spec.origin)


@cache
def _in_file(file: Path) -> tuple[Declared, ...]:
    tree = ast.parse(file.read_text(encoding="utf-8"))
    constants, out = _constants(tree), dict[str, Declared]()
    imported = {a.name: n.module for n in tree.body if isinstance(n, ast.ImportFrom) and n.module for a in n.names}
    for node in tree.body:
        if isinstance(node, ast.ClassDef):
            names = [b.id for b in node.bases if isinstance(b, ast.Name)]
            bases = [out[b] if b in out else declared(imported[b], b) for b in names if b in out or _is_ours(imported.get(b, ""))]
            out[node.name] = _of_class(node, constants, bases, out)
    return tuple(out.values())


def _is_ours(module: str) -> bool:
    return module.startswith("chaff.") and not module.startswith("chaff.kernels.")


def _constants(tree: ast.Module) -> dict[str, str]:
    """What capitalised names stand for, those of other files of ours too."""
    out: dict[str, str] = {}
    for node in tree.body:
        if isinstance(node, ast.ImportFrom) and node.module and _is_ours(node.module):
            wanted = {a.name for a in node.names if a.name.isupper() or a.name in ("Form", "Rule")}
            there = _constants(ast.parse(_file_of(node.module).read_text(encoding="utf-8"))) if wanted else {}
            out |= {name: there[name] for name in wanted & set(there)}
        if isinstance(node, ast.Assign):
            out |= {t.id: ast.unparse(node.value) for t in node.targets if isinstance(t, ast.Name)}
    return out


def _of_class(node: ast.ClassDef, constants: dict[str, str], bases: Sequence[Declared], before: dict[str, Declared]) -> Declared:
    """With the settings that it has from classes below it, described there or here."""
    doc = sections(inspect.cleandoc(ast.get_docstring(node) or ""))
    about = {}
    for entry in entries(doc.get("Parameters", "")):
        names, _, text = entry.partition("\n")
        for name in names.split(" : ")[0].split(", "):
            about[name] = " ".join(text.split())
        if names.startswith("**") and (other := re.search(r"As of `(\w+)`", text)):
            about |= {f.name: f.about for f in before[other[1]].fields}
    found, label = [], ""
    for line in node.body:
        if not isinstance(line, ast.AnnAssign) or not isinstance(line.target, ast.Name):
            continue
        name, hint = line.target.id, ast.unparse(line.annotation)
        default = "" if line.value is None else ast.unparse(line.value)
        if hint == "ClassVar[str]" and name in ("name", "label"):
            label = label or str(ast.literal_eval(default)) if default else label
        elif "ClassVar" not in hint and name != "name":
            found.append(DeclaredField(name, constants.get(hint, hint), constants.get(default, default), about.get(name, "")))
    own = {f.name for f in found}
    below = [f if not about.get(f.name) else replace(f, about=about[f.name]) for b in bases for f in b.fields if f.name not in own]
    return Declared(node.name, label, doc, (*below, *found))
