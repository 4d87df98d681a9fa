"""Choices are values: models, strategies and the like are frozen dataclasses, found in the files of their room.

A choice is said as an object, as its name, or as a mapping of its name and settings (`{ name = "ridge", penalty = 0.1 }`);
whatever is wrong with it is said at the edge, all mistakes at once. A new choice is a new file: nothing lists it.
"""

from __future__ import annotations

import dataclasses
import importlib
import importlib.util
import numbers
import pkgutil
import re
import types
import typing
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

from chaff.errors import UsageError, nearest

MOST = 1_000_000_000  # of whatever is counted: more of it would never end


@dataclass(frozen=True)
class Registry:
    """The choices of one family: every frozen dataclass in the files of `package` that carries the class variable `key`."""

    package: str
    what: str
    """In words, for messages: "model"."""
    key: str = "name"

    @property
    def choices(self) -> Mapping[str, type]:
        """Name → class, in the order of the names."""
        return _choices_in(self.package, self.key)

    def make(self, given: Any) -> Any:
        """The choice itself from an object, a name, or a mapping with `name` and settings.

        Raises
        ------
        UsageError
            Every mistake in one go, the nearest name suggested.
        """
        if isinstance(given, str):
            return self._class(given)()
        if isinstance(given, Mapping):
            settings = {str(k): v for k, v in given.items() if k != "name"}
            if "name" not in given:
                raise UsageError(
                    f"a {self.what} is said by its name, such as {{ name = \"{next(iter(self.choices))}\" }}; 'name' is missing"
                )
            cls = self._class(str(given["name"]))
            problems = wrong_fields(cls, settings)
            if problems:
                raise UsageError(f"{self.what} '{given['name']}': " + "; ".join(problems))
            return cls(**settings)
        if isinstance(given, type) and given in self.choices.values():
            raise UsageError(f"{given.__name__} is a class: call it, chaff.{given.__name__}()")
        if isinstance(given, type) or not hasattr(given, self.key):
            raise UsageError(f"a {self.what} is a name ({', '.join(self.choices)}), a mapping or an object of its own, not {given!r}")
        return given

    def _class(self, name: str) -> type:
        if name not in self.choices:
            raise UsageError(f"unknown {self.what} '{name}'; choose from {', '.join(self.choices)}.{nearest(name, self.choices)}")
        return self.choices[name]

    def of_class(self, name: str) -> type | None:
        """The choice whose class has this name, for the public face."""
        return next((c for c in self.choices.values() if c.__name__ == name), None)


@lru_cache(maxsize=32)
def _choices_in(package: str, key: str) -> Mapping[str, type]:
    out: dict[str, type] = {}
    for module in files_of(package):
        for thing in vars(module).values():
            own = isinstance(thing, type) and thing.__module__ == module.__name__ and dataclasses.is_dataclass(thing)
            if own and isinstance(getattr(thing, key, None), str):
                out[getattr(thing, key)] = thing
    return types.MappingProxyType(dict(sorted(out.items())))


def files_of(package: str) -> list[types.ModuleType]:
    """The modules of a room, imported, in the order of their names."""
    room = importlib.import_module(package)
    return [importlib.import_module(f"{package}.{m.name}") for m in sorted(pkgutil.iter_modules(room.__path__), key=lambda m: m.name)]


def names_in(package: str, key: str = "name") -> tuple[str, ...]:
    """The names of a room's choices, read from its files and not imported: for help, which has to be quick.

    >>> names_in("chaff.methods.importance.ways")[:2]
    ('coefficient', 'drop column')
    """
    spec = importlib.util.find_spec(package)
    folders = list(spec.submodule_search_locations or ()) if spec is not None else []
    pattern = re.compile(rf'^    {key}: ClassVar\[str\] = "([^"]+)"', re.M)
    return tuple(
        sorted(name for folder in folders for file in Path(folder).glob("*.py") for name in pattern.findall(file.read_text("utf-8")))
    )


def plan_value(choice: Any, key: str = "name") -> Any:
    """A choice as a plan says it: its name, with the settings that are not the default ones."""
    name = getattr(choice, key)
    settings = {} if getattr(choice, "own", False) else changed_fields(choice)  # a user's own is code, which no plan holds
    return {"name": name} | settings if settings else name


def changed_fields(thing: Any) -> dict[str, Any]:
    """Fields of a frozen dataclass that differ from their defaults."""
    if not dataclasses.is_dataclass(thing):
        return {}
    return {f.name: getattr(thing, f.name) for f in dataclasses.fields(thing) if getattr(thing, f.name) != _default(f)}


def _default(field: dataclasses.Field[Any]) -> Any:
    return field.default_factory() if field.default_factory is not dataclasses.MISSING else field.default


def wrong_fields(cls: type, settings: Mapping[str, Any]) -> list[str]:
    """What is wrong with these settings of a dataclass: unknown names, values of another type."""
    known = [f.name for f in dataclasses.fields(cls) if f.init]
    hints = typing.get_type_hints(cls)
    problems = []
    for name, value in settings.items():
        if name not in known:
            problems.append(f"unknown key '{name}'; it has {', '.join(known) or 'no settings'}.{nearest(name, known)}")
        elif not fits(value, hints[name]) or (isinstance(value, numbers.Real) and value != value):
            problems.append(f"{name} must be {in_words(hints[name])}, not {value!r}")
        elif isinstance(value, numbers.Integral) and abs(int(value)) > MOST:
            problems.append(f"{name} must be {in_words(hints[name])} up to {MOST:,}, not {value!r}")
    return problems


def fits(value: Any, hint: Any) -> bool:
    """Whether a value is of a plain type hint: a whole number fits a float, yes and no fit nothing but a bool."""
    origin = typing.get_origin(hint)
    if hint is Any or isinstance(hint, typing.TypeVar):
        return True
    if origin is typing.Literal:
        return any(value == a and isinstance(value, type(a)) for a in typing.get_args(hint))
    if origin in (typing.Union, types.UnionType):
        return any(fits(value, a) for a in typing.get_args(hint))
    if hint is None or hint is type(None):
        return value is None
    plain = origin or hint
    if not isinstance(plain, type):
        return True
    if getattr(plain, "_is_protocol", False) and not issubclass(plain, Sequence | Mapping):
        return not isinstance(value, str | int | float | list | dict)  # what it has to have is asked where it is used
    if plain in (int, float):
        kind = numbers.Real if plain is float else numbers.Integral
        return isinstance(value, kind) and not isinstance(value, bool)
    if plain in (Sequence, Iterable, Collection) and isinstance(value, str | bytes | Mapping):
        return not isinstance(value, bytes) and typing.get_args(hint)[:1] in ((str,), (Any,), ())  # a word is a list of one word
    if plain in (Sequence, Iterable, Collection):
        return hasattr(value, "__iter__") and _entries_fit(value, typing.get_args(hint))  # an array or an index too
    return isinstance(value, plain) and _entries_fit(value, typing.get_args(hint))


def _entries_fit(value: Any, hints: tuple[Any, ...]) -> bool:
    """Whether what is in a list or mapping fits too; a word is a sequence of words."""
    if isinstance(value, Mapping) and len(hints) == 2:
        return all(fits(k, hints[0]) and fits(v, hints[1]) for k, v in value.items())
    if isinstance(value, list | tuple | set | frozenset) and hints:
        return all(fits(v, hints[0]) for v in value)
    return True


def in_words(hint: Any) -> str:
    """A type hint as the user would say it."""
    origin = typing.get_origin(hint)
    if origin is typing.Literal:
        return " or ".join(repr(a) for a in typing.get_args(hint))
    if origin in (typing.Union, types.UnionType):
        return " or ".join(in_words(a) for a in typing.get_args(hint))
    inside = [in_words(a) for a in typing.get_args(hint)]
    if origin is not None and issubclass(origin, Mapping) and len(inside) == 2:
        return f"names with {inside[1]} each"
    if origin is not None and issubclass(origin, Iterable) and not issubclass(origin, Mapping) and inside:
        return f"a list of which each is {inside[0]}"
    names = {int: "a whole number", float: "a number", str: "a word", bool: "true or false", type(None): "left out"}
    return names.get(origin or hint, getattr(origin or hint, "__name__", str(hint)))
