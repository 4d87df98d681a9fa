"""Models by the names they have in a plan: every learner in a file of this room is found."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

from chaff.choices import Registry
from chaff.errors import UsageError
from chaff.models.protocols import Model

MODELS = Registry("chaff.models", "model", key="label")
_OWN: ContextVar[Mapping[str, Model]] = ContextVar("models of a person's own, by the names they have in a plan", default={})  # noqa: B039


@contextmanager
def own_models(models: Mapping[str, Any] | None) -> Iterator[None]:
    """While a plan is read, these names are models too.

    Raises
    ------
    UsageError
        When a name is that of a model of Chaff's, or what goes by it is no model.
    """
    taken = sorted(set(models or {}) & set(MODELS.choices))
    if taken:
        raise UsageError(f"models: '{taken[0]}' is a model of Chaff's already: give yours another name")
    before = _OWN.set({**_OWN.get(), **{name: as_model(m) for name, m in (models or {}).items()}})
    try:
        yield
    finally:
        _OWN.reset(before)


def _is_own(given: Any) -> bool:
    """Whether this is a class of the user's with `fit` and `predict`, or what makes one, and no model of ours."""
    if isinstance(given, str | Mapping) or hasattr(given, MODELS.key):
        return False
    return callable(getattr(given, "fit", None)) and callable(getattr(given, "predict", None))


def as_model(given: Any) -> Model:
    """A model from an object, a name such as "ridge", a mapping such as ``{"name": "ridge", "penalty": 0.1}``, or a class of your own
    with `fit` and `predict`, which is adapted (`chaff.models.adapt`).

    >>> as_model({"name": "ridge", "penalty": 0.1})
    Ridge(penalty=0.1)
    """
    if isinstance(given, str) and given in _OWN.get():
        return _OWN.get()[given]
    if _is_own(given):
        from chaff.models.own_model import adapt

        return adapt(given)
    model: Model = MODELS.make(given)
    missing = [name for name in ("learns", "reads", "gives", "fit") if not hasattr(model, name)]
    if missing:
        raise UsageError(f"{given!r} is no model: it lacks {', '.join(missing)}")
    return model
