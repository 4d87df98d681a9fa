"""Models by the names they have in a plan: every learner in a file of this room is found."""

from __future__ import annotations

from typing import Any

from chaff.choices import Registry
from chaff.errors import UsageError
from chaff.models.protocols import Model

MODELS = Registry("chaff.models", "model", key="label")


def as_model(said: Any) -> Model:
    """A model from an object, a name such as "ridge", or a mapping such as ``{"name": "ridge", "penalty": 0.1}``.

    >>> as_model({"name": "ridge", "penalty": 0.1})
    Ridge(penalty=0.1)
    """
    model: Model = MODELS.make(said)
    missing = [name for name in ("learns", "reads", "gives", "fit") if not hasattr(model, name)]
    if missing:
        raise UsageError(f"{said!r} is no model: it lacks {', '.join(missing)}")
    return model
