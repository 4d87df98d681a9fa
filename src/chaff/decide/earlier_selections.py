"""Selections of earlier versions under today's keys."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

KEYS = {
    "look": "review", "about": "descriptions", "places": "ranks", "kept_shares": "selection_frequencies",
    "stand_ins": "interchangeable", "seal": "checksum",
}  # fmt: skip


def with_new_keys(data: Mapping[str, Any]) -> dict[str, Any]:
    """A selection of version 1 or 2 as one of version 3; what is not as it should be is left to the reader's own checks."""
    out = {KEYS.get(k, k): v for k, v in data.items()}
    out["version"] = 3
    for part in ("kept", "dropped", "history"):
        out[part] = [_part(p) for p in _list(out.get(part))]
    out["review"] = [{"blocked" if k == "barred" else k: v for k, v in p.items()} for p in _list(out.get("review"))]
    if isinstance(out.get("target"), Mapping):
        out["target"] = _part(out["target"])
    return out


def _list(value: Any) -> list[Any]:
    return [p for p in value if isinstance(p, Mapping)] if isinstance(value, list) else []


def _part(part: Mapping[str, Any]) -> dict[str, Any]:
    out = {"distribution" if k == "shape" else k: v for k, v in part.items()}
    if out.get("verdict") == "look":
        out["verdict"] = "review"
    return out
