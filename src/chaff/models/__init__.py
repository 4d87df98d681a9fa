"""Learners. Each is a frozen dataclass whose fields are its settings."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from chaff.models.model_checks import check as check
    from chaff.models.own_model import adapt as adapt
    from chaff.models.single_fit import fit as fit
    from chaff.models.single_fit import out_of_bag as out_of_bag

_PUBLIC = {
    "fit": "chaff.models.single_fit",
    "out_of_bag": "chaff.models.single_fit",
    "adapt": "chaff.models.own_model",
    "check": "chaff.models.model_checks",
}


def __getattr__(name: str) -> Any:
    if name in _PUBLIC:
        from importlib import import_module

        from chaff.arguments import checked

        return checked(getattr(import_module(_PUBLIC[name]), name))
    raise AttributeError(f"module 'chaff.models' has no attribute {name!r}; it has {', '.join(_PUBLIC)}")


def __dir__() -> list[str]:
    return sorted(_PUBLIC)
