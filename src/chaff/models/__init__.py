"""Learners. Each is a frozen dataclass whose fields are its settings."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from chaff.models.own import adapt as adapt
    from chaff.models.promises import check as check
    from chaff.models.single import fit as fit
    from chaff.models.single import out_of_bag as out_of_bag

_PUBLIC = {"fit": "chaff.models.single", "out_of_bag": "chaff.models.single", "adapt": "chaff.models.own", "check": "chaff.models.promises"}


def __getattr__(name: str) -> Any:
    if name in _PUBLIC:
        from importlib import import_module

        from chaff.arguments import checked

        return checked(getattr(import_module(_PUBLIC[name]), name))
    raise AttributeError(f"module 'chaff.models' has no attribute {name!r}")
