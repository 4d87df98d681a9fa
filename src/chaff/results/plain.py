"""Results as plain data: what a script reads, and what JSON can hold."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd


def plain(value: Any) -> Any:
    """Numbers, words, lists and mappings; frames as records; not a number as nothing, infinities as words."""
    if hasattr(value, "as_plain"):
        return value.as_plain()
    if hasattr(value, "to_dict") and hasattr(value, "columns"):
        return records(value)
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {f.name: plain(getattr(value, f.name)) for f in dataclasses.fields(value) if f.repr}
    if isinstance(value, Mapping):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple | set | frozenset):
        return [plain(v) for v in (sorted(value) if isinstance(value, set | frozenset) else value)]
    if hasattr(value, "tolist"):
        return plain(value.tolist())
    if isinstance(value, float):
        return None if math.isnan(value) else value if math.isfinite(value) else "inf" if value > 0 else "-inf"
    return value if value is None or isinstance(value, str | int | bool) else str(value)


def records(frame: pd.DataFrame) -> list[dict[str, Any]]:
    """One mapping a row, the index among its entries where it has a name."""
    names = [n for n in frame.index.names if n is not None]
    out = []
    for key, row in zip(frame.index, frame.itertuples(index=False, name=None), strict=True):
        keys = key if isinstance(key, tuple) else (key,)
        given = {str(n): plain(k) for n, k in zip(names, keys, strict=False)}
        out.append(given | {str(c): plain(v) for c, v in zip(frame.columns, row, strict=True)})
    return out
