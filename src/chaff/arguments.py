"""The types of arguments at the public face: a wrong one is named, before any work, by an error of our own."""

from __future__ import annotations

import dataclasses
import functools
import inspect
import types
import typing
from typing import Any

from chaff.choices import fits, in_words, wrong_fields
from chaff.errors import ArgumentError, nearest

SETTINGS = ("use", "name", "label", "asks")  # what a stage, a model or a strategy is known by: only such classes are looked into

OWN = ("self", "model", "strategy")  # choices, of which the class itself says what there are


def checked(thing: Any) -> Any:
    """A public call, or a class of settings, that looks at the types of what it is given."""
    if isinstance(thing, types.FunctionType):
        return _call(thing)
    if isinstance(thing, type) and dataclasses.is_dataclass(thing) and _is_settings(thing) and not hasattr(thing, "_checks_types"):
        _check_class(thing)
    return thing


def _is_settings(cls: type) -> bool:
    return any(isinstance(getattr(cls, key, None), str) for key in SETTINGS) or cls.__name__ in ("Plan", "Scoring", "Pin", "Correlating")


def _call(function: types.FunctionType) -> Any:
    signature = inspect.signature(function)

    @functools.wraps(function)
    def call(*given: Any, **named: Any) -> Any:
        try:
            bound = signature.bind(*given, **named)
        except TypeError as error:
            unknown = [k for k in named if k not in signature.parameters]
            if unknown == ["target"] and next(iter(signature.parameters)) == "table" and given:
                raise ArgumentError(_how_to_open(function.__name__, given[0])) from error
            words = f"unknown argument '{unknown[0]}'.{nearest(unknown[0], signature.parameters)}" if unknown else str(error)
            raise ArgumentError(f"{function.__name__}: {words}") from error
        hints = _hints(function)
        for name, value in bound.arguments.items():
            kind = signature.parameters[name].kind
            if kind in (inspect.Parameter.VAR_KEYWORD, inspect.Parameter.VAR_POSITIONAL) or name not in hints:
                continue
            if value is signature.parameters[name].default:
                continue
            if isinstance(value, str) and "Literal" in str(hints[name]):
                continue  # the call itself says which words there are
            if not fits(value, hints[name]):
                if getattr(hints[name], "__name__", "") == "Table":
                    raise ArgumentError(_how_to_open(function.__name__, value))
                raise ArgumentError(f"{function.__name__}: {name} must be {in_words(hints[name])}, not {_shown(value)}")
        return function(*given, **named)

    return call


@functools.lru_cache(maxsize=256)
def _hints(function: types.FunctionType) -> dict[str, Any]:
    """Hints of the parameters; one that names what is only imported for the checker is left out."""
    out = {}
    for name, hint in function.__annotations__.items():
        try:
            out[name] = eval(hint, vars(typing) | function.__globals__) if isinstance(hint, str) else hint  # our own source
        except (NameError, TypeError):
            continue
    return out


def _check_class(cls: type) -> None:
    made: Any = cls.__init__  # type: ignore[misc]

    @functools.wraps(made)
    def init(self: Any, *given: Any, **named: Any) -> None:
        try:
            bound = inspect.signature(made).bind(self, *given, **named)
        except TypeError as error:
            known = [f.name for f in dataclasses.fields(cls) if f.init]
            raise ArgumentError(f"{cls.__name__}: {error}; it has {', '.join(known)}") from error
        wrong = wrong_fields(cls, {k: v for k, v in bound.arguments.items() if k not in OWN})
        if wrong:
            raise ArgumentError(f"{cls.__name__}: {'; '.join(wrong)}")
        made(self, *given, **named)

    cls.__init__ = init  # type: ignore[misc]
    cls._checks_types = True  # type: ignore[attr-defined]


def _how_to_open(call: str, value: Any) -> str:
    kind = "a path" if isinstance(value, str) else f"a {type(value).__name__}"
    return f'{call}: this is {kind}, not a Table: open it first, chaff.{call}(chaff.open_table(data, target="NAME"), …)'


def _shown(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 60 else f"{type(value).__name__} {text[:40]}…"
