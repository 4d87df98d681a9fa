"""0/1 columns that are one category: their names begin alike and exactly one of them is 1 in every row."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Sequence

import numpy as np

from chaff.methods.screen.facts import Facts
from chaff.visible import listed

FEWEST = 3  # columns; two may just be each other's opposite
STEM = re.compile(r"^(.+?)[_.:=\- ][^_.:=\- ]+$")


def indicator_groups(facts: Sequence[Facts]) -> dict[str, tuple[str, ...]]:
    """Stem of the names → the columns that are one category."""
    flags = {f.name: f for f in facts if f.kind == "binary" and f.column.levels in (("0", "1"), ("False", "True"), ("false", "true"))}
    stems: dict[str, list[str]] = {}
    for name in flags:
        stem = STEM.match(name)
        if stem:
            stems.setdefault(stem[1], []).append(name)
    return {stem: tuple(names) for stem, names in stems.items() if len(names) >= FEWEST and _add_up([flags[n] for n in names])}


def _add_up(flags: Sequence[Facts]) -> bool:
    total = np.zeros(flags[0].column.values.shape)
    for f in flags:
        if f.column.missing.any():
            return False
        total += f.column.values
    return bool((total == 1).all())


def indicator_words(facts: Sequence[Facts], features: Sequence[str]) -> list[str]:
    """What is said of them, with what makes one feature of them."""
    out = []
    for stem, names in indicator_groups(facts).items():
        pattern = f"{stem}_*" if set(fnmatch.filter(features, f"{stem}_*")) == set(names) else ",".join(names)
        members = [pattern] if pattern.endswith("*") else list(names)
        out.append(
            f"{listed(names, 3)}: {len(names)} columns of 0 and 1 that add up to one, so they are one category: open with "
            f"together={{'{stem}': {members}}} (--together '{stem}={pattern}')"
        )
    return out
