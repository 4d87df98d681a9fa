"""Plans to start from, by name, and the published schema of a plan's file."""

from __future__ import annotations

import dataclasses
import json
import typing
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from chaff.decide.plan import BUILT_IN_FOREST, PinEntry, Plan, Scoring, built_in_plan, wide_plan
from chaff.decide.stages import STAGES, optional_limits
from chaff.errors import UsageError, nearest
from chaff.methods.chance.twin_test import TwinTest
from chaff.methods.importance.stage import Importance
from chaff.methods.overlap.stage import Overlap
from chaff.methods.relevance.stage import Relevance
from chaff.methods.screen.stage import Screen
from chaff.methods.search.stage import Search
from chaff.models.forest import Forest
from chaff.table.terms import Terms


def _linear() -> Plan:
    return Plan((Screen(), Relevance("leading"), Overlap(), Search(lenses="linear")))


def _trees() -> Plan:
    return Plan((Screen(), Relevance("leading"), Importance(BUILT_IN_FOREST), Search(lenses="forest")))


def _thorough() -> Plan:
    stages = (Screen(), Relevance("fitting"), Overlap(), Importance(Forest(trees=300)), TwinTest(), Search())
    return Plan(stages, Scoring(repeats=5))


NAMED: dict[str, tuple[str, Callable[[], Plan]]] = {
    "built in": ("screen, relevance, overlap, importance, then a search with two models: the default of chaff select", built_in_plan),
    "quick": ("the screen and a linear search: seconds, to see where a table stands", lambda: Plan((Screen(), Search(lenses="linear")))),
    "linear": ("for a linear final model: overlap matters, the search uses the linear model only", _linear),
    "trees": ("for a final model of trees: importance of a forest, the search uses the forest only", _trees),
    "wide": ("for very many columns: relevance keeps the best 1,000 first, repeated inside every fold", wide_plan),
    "thorough": ("every fitting statistic, a larger forest, the twin test, two models, five repeats: minutes", _thorough),
}


def named_plan(name: str) -> Plan:
    """A plan to start from.

    Parameters
    ----------
    name : "built in", "quick", "linear", "trees", "wide" or "thorough"

    Raises
    ------
    UsageError

    Examples
    --------
    >>> import chaff
    >>> [s.use for s in chaff.named_plan("quick").stages]
    ['screen', 'search']
    """
    if name not in NAMED:
        raise UsageError(f"unknown plan '{name}'; choose from {', '.join(NAMED)}.{nearest(name, NAMED)}")
    return NAMED[name][1]()


def plan_schema() -> str:
    """The published JSON schema of a plan's file (TOML read as plain data), as text."""
    stages = [_of_class(cls, {"use": {"const": use}}, ["use"], optional_limits(cls)) for use, cls in STAGES.items()]
    pin = _of_class(PinEntry, {}, ["feature", "verdict", "because"])
    schema = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "chaff plan",
        "type": "object",
        "additionalProperties": False,
        "required": ["stage"],
        "properties": {
            "table": _of_class(Terms),
            "score": _of_class(Scoring),
            "stage": {"type": "array", "minItems": 1, "items": {"oneOf": stages}},
            "pin": {"type": "array", "items": pin},
        },
    }
    return json.dumps(schema, indent=1, ensure_ascii=False) + "\n"


def _of_class(
    cls: type, more: Mapping[str, Any] | None = None, required: Sequence[str] = (), off: set[str] | None = None
) -> dict[str, Any]:
    """The fields of a dataclass as a schema; `off` may be switched off by false."""
    hints = typing.get_type_hints(cls)
    text = dict(more or {})
    for f in dataclasses.fields(cls):
        kinds = _kinds(hints[f.name])
        if off and f.name in off:
            kinds = [*kinds, {"const": False}]
        text[f.name] = {} if not kinds else kinds[0] if len(kinds) == 1 else {"anyOf": kinds}
    out: dict[str, Any] = {"type": "object", "additionalProperties": False, "properties": text}
    return out | ({"required": list(required)} if required else {})


PLAIN: dict[Any, str] = {str: "string", int: "integer", float: "number", bool: "boolean"}


def _kinds(hint: Any) -> list[dict[str, Any]]:
    """What a field takes in a file, as schemas; empty where anything goes. A choice is a word, or its name with its settings."""
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if hint is Any:
        return []
    if hint in PLAIN:
        return [{"type": PLAIN[hint]}]
    if origin is typing.Literal:
        return [{"enum": list(inner)}]
    if (origin is not None and not isinstance(origin, type)) or str(origin) == "<class 'types.UnionType'>":
        out: list[dict[str, Any]] = []
        for part in inner:
            out += [k for k in _kinds(part) if k not in out] if part is not type(None) else []
        return out
    if isinstance(origin, type) and issubclass(origin, Mapping):
        return [{"type": "object"}]
    if isinstance(origin, type) and issubclass(origin, Sequence | set | frozenset | tuple):
        entries = _kinds(inner[0]) if inner else []
        return [{"type": "array", **({"items": entries[0] if len(entries) == 1 else {"anyOf": entries}} if entries else {})}]
    return [{"type": "string"}, {"type": "object"}]
