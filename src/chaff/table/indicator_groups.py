"""0/1 columns that are one category: their names begin alike and exactly one of them is 1 in every row."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Mapping, Sequence

import numpy as np

from chaff.table.kinds import Column

FEWEST = 3  # columns; two may just be each other's opposite
STEM = re.compile(r"^(.+?)[_.:=\- ][^_.:=\- ]+$")
FLAGS = (("0", "1"), ("False", "True"), ("false", "true"))


def indicator_groups(columns: Mapping[str, Column]) -> dict[str, tuple[str, ...]]:
    """Stem of the names → the columns that are one category."""
    stems: dict[str, list[str]] = {}
    for name, column in columns.items():
        stem = STEM.match(name)
        if stem and column.kind == "binary" and column.levels in FLAGS:
            stems.setdefault(stem[1], []).append(name)
    return {stem: tuple(names) for stem, names in stems.items() if len(names) >= FEWEST and _add_up([columns[n] for n in names])}


def together_option(stem: str, names: Sequence[str], features: Sequence[str]) -> str:
    """What makes one feature of them, as the command line takes it; one pattern where it fits these columns only."""
    pattern = f"{stem}_*"
    return f"{stem}={pattern if set(fnmatch.filter(features, pattern)) == set(names) else ','.join(names)}"


def _add_up(flags: list[Column]) -> bool:
    total = np.zeros(flags[0].values.shape)
    for f in flags:
        total += f.values  # a missing one makes the sum missing
    return bool((total == 1).all())


def joined(name: str, members: Mapping[str, Column]) -> Column:
    """The category that they are, its levels named by what follows the stem."""
    codes = np.full(next(iter(members.values())).values.shape, np.nan)
    for k, column in enumerate(members.values()):
        codes[column.values == 1] = k
    return Column(name, "category", codes, tuple(m[len(name) + 1 :] for m in members))
