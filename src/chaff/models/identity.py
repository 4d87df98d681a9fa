"""What tells one of the user's models from another: its settings and its code, the same in every process.

Values are described by what they are, never by where they lie in memory. Functions and classes are described by their compiled code and
by what that code refers to in its own file, so that a changed formula is another model even under the same name.
"""

from __future__ import annotations

import copyreg
import enum
import functools
import hashlib
import sys
import types
from collections.abc import Iterator, Mapping
from pathlib import PurePath
from typing import Any

import numpy as np

MAX_DEPTH = 40
HEAP_TYPE = 1 << 9  # the flag of classes that were made by a class statement
NO_BODY = {"__dict__", "__weakref__", "__doc__", "__module__", "__annotations__", "__firstlineno__", "__static_attributes__"}


class NotToldApart(Exception):
    """A value whose contents cannot be described; names it."""


def identity_of(value: Any) -> str:
    """A hash of settings and code.

    Raises
    ------
    NotToldApart
        When a part of it can neither be looked into nor pickled.
    """
    try:
        return _described(value, _Seen(), 0)
    except RecursionError:
        raise NotToldApart(f"{type(value).__name__} is nested too deeply") from None


class _Seen:
    """What has been described, held so that no other value takes its place in memory, and what is being described, so that circles end."""

    def __init__(self) -> None:
        self.done: dict[int, tuple[Any, str]] = {}
        self.open: dict[int, int] = {}


def _described(value: Any, seen: _Seen, depth: int) -> str:
    if value is None or (isinstance(value, bool | int | float | complex | str | bytes) and type(value).__module__ == "builtins"):
        return f"{type(value).__name__} {value!r}"
    key = id(value)
    if key in seen.done:
        return seen.done[key][1]
    if key in seen.open or depth > MAX_DEPTH:
        return f"again {depth - seen.open.get(key, 0)}"
    seen.open[key] = depth
    text = f"{_name(type(value))}({_inside(value, seen, depth + 1)})"
    del seen.open[key]
    out = hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:20]
    seen.done[key] = (value, out)
    return out


def _inside(value: Any, seen: _Seen, depth: int) -> str:
    def of(part: Any) -> str:
        return _described(part, seen, depth)

    if isinstance(value, np.ndarray):
        cells = [of(v) for v in value.ravel().tolist()] if value.dtype.kind == "O" else [np.ascontiguousarray(value).tobytes().hex()]
        return f"{value.dtype.str} {value.shape} {','.join(cells)}"
    if isinstance(value, np.generic | enum.Enum | PurePath):
        return repr(value)
    if isinstance(value, Mapping):
        return ",".join(sorted(f"{of(k)}: {of(v)}" for k, v in value.items()))
    if isinstance(value, list | tuple):
        return ",".join(map(of, value))
    if isinstance(value, set | frozenset):
        return ",".join(sorted(map(of, value)))
    if isinstance(value, functools.partial):
        return of([value.func, value.args, value.keywords])
    if isinstance(value, types.MethodType):
        return of([value.__self__, value.__func__])
    if isinstance(value, types.FunctionType):
        return _function(value, seen, depth)
    if isinstance(value, types.CodeType):
        return _code(value, seen, depth)
    if isinstance(value, types.BuiltinFunctionType | np.ufunc):
        owner = getattr(value, "__self__", None)
        of_owner = "" if owner is None or isinstance(owner, types.ModuleType) else of(owner)
        return f"{getattr(value, '__module__', '')}.{value.__name__} {of_owner}"
    if isinstance(value, types.ModuleType):
        return f"{value.__name__} {getattr(value, '__version__', '')}"
    if isinstance(value, type):
        return _class(value, seen, depth)
    if isinstance(value, staticmethod | classmethod):
        return of(value.__func__)
    if isinstance(value, property):
        return of([value.fget, value.fset, value.fdel])
    return _object(value, seen, depth)


def _name(kind: type) -> str:
    return f"{kind.__module__}.{kind.__qualname__}" if kind.__module__ != "__main__" else kind.__qualname__


def _function(value: types.FunctionType, seen: _Seen, depth: int) -> str:
    cells = [_cell(c) for c in value.__closure__ or ()]
    parts = [value.__code__, value.__defaults__, value.__kwdefaults__, cells, *_referred(value)]
    return ",".join(_described(p, seen, depth) for p in parts)


def _cell(cell: Any) -> Any:
    try:
        return cell.cell_contents
    except ValueError:  # not filled yet
        return None


def _code(code: types.CodeType, seen: _Seen, depth: int) -> str:
    return f"{code.co_code.hex()} {code.co_names} {code.co_varnames} {_described(code.co_consts, seen, depth)}"


def _referred(value: types.FunctionType) -> Iterator[Any]:
    """The functions, classes and plain constants of its own file that its code names."""
    for name in _names_in(value.__code__):
        known = value.__globals__.get(name)
        if isinstance(known, bool | int | float | str | tuple):
            yield known
        elif isinstance(known, types.FunctionType | type):
            yield known if known.__module__ == value.__module__ else _name_and_version(known)


def _names_in(code: types.CodeType) -> list[str]:
    inner = [n for c in code.co_consts if isinstance(c, types.CodeType) for n in _names_in(c)]
    return list(dict.fromkeys([*code.co_names, *inner]))


def _name_and_version(known: Any) -> str:
    home = sys.modules.get(known.__module__.partition(".")[0])
    return f"{known.__module__}.{known.__qualname__} {getattr(home, '__version__', '')}"


def _class(value: type, seen: _Seen, depth: int) -> str:
    """Its name, and what its own body and those of its bases hold; of compiled classes only the name."""
    out = [_name(value)]
    for base in value.__mro__:
        if base.__module__ in ("builtins", "typing", "abc") or base.__flags__ & HEAP_TYPE == 0:
            out.append(_name_and_version(base))
            continue
        body = {k: v for k, v in vars(base).items() if k not in NO_BODY and not k.startswith("_abc_")}
        out += [f"{k}={_member(v, seen, depth)}" for k, v in sorted(body.items())]
    return ",".join(out)


def _member(value: Any, seen: _Seen, depth: int) -> str:
    """What stands in a class body; descriptors of slots and the like hold no setting."""
    try:
        return _described(value, seen, depth)
    except NotToldApart:
        return _name(type(value))


def _object(value: Any, seen: _Seen, depth: int) -> str:
    """The code of its class, and what pickle would write of it."""
    of_class = _described(type(value), seen, depth)
    try:
        reduce = copyreg.dispatch_table.get(type(value))
        parts = reduce(value) if reduce is not None else value.__reduce_ex__(4)
    except Exception as error:
        raise NotToldApart(f"a {type(value).__name__} in it cannot be looked into") from error
    if isinstance(parts, str):
        return f"{of_class},{parts}"
    made_by, given, state, items, pairs = [*parts, None, None, None][:5]
    rest = [state, list(items) if items is not None else None, list(pairs) if pairs is not None else None]
    return f"{of_class},{getattr(made_by, '__qualname__', '')},{_described([given, *rest], seen, depth)}"
