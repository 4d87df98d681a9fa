"""Whether a strategy's sizes are there on a table, said before anything runs."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from chaff.errors import UsageError
from chaff.methods.search.strategy import largest


def check_sizes(strategy: Any, features: int, pinned: Collection[str]) -> None:
    """Raises `UsageError` for a size that is larger than the table or smaller than what is pinned in."""
    for name in ("size", "smallest"):
        wanted = getattr(strategy, name, None)
        if wanted is None or isinstance(wanted, bool):
            continue
        if wanted > features:
            raise UsageError(f"{strategy.name}: {name} {wanted} is more than the {features} features there are")
        if name == "size" and largest(wanted, features) < len(pinned):
            raise UsageError(f"{strategy.name}: size {wanted} is less than the {len(pinned)} features that are pinned in")
    if getattr(strategy, "smallest", 1) > largest(getattr(strategy, "size", None), features):
        raise UsageError(f"{strategy.name}: smallest {strategy.smallest} is more than size {strategy.size}")
