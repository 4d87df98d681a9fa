"""Worth a word, and changes nothing: labels that differ by case only, columns that follow from another, gaps of one level.

What the screen says of 0/1 columns that are one category.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from chaff.methods.screen.facts import Facts
from chaff.table.indicator_groups import indicator_groups, together_option
from chaff.table.table import Table
from chaff.visible import listed


def indicator_words(facts: Sequence[Facts], features: Sequence[str]) -> list[str]:
    """What is said of them, with what makes one feature of them."""
    out = []
    for stem, names in indicator_groups({f.name: f.column for f in facts if f.kind == "binary"}).items():
        option = together_option(stem, names, features)
        members = option.partition("=")[2].split(",")
        out.append(
            f"{listed(names, 3)}: {len(names)} columns of 0 and 1 that add up to one, so they are one category: open with "
            f"together={{'{stem}': {members}}} (--together '{option}')"
        )
    return out


ROWS_A_LEVEL = 5
MOST_LEVELS = 200
MOST_COLUMNS = 60
SHOWN = 3


def mentions(table: Table, facts: Sequence[Facts]) -> tuple[str, ...]:
    """One sentence each."""
    words = [f for f in facts if f.kind in ("category", "binary") and 1 < f.distinct <= MOST_LEVELS][:MOST_COLUMNS]
    return (*indicator_words(facts, table.features), *_by_case(words), *_followed(words), *_gaps_of_a_level(facts, words))


def _by_case(words: Sequence[Facts]) -> list[str]:
    out = []
    for f in words:
        alike: dict[str, list[str]] = {}
        present = set(np.unique(f.column.values[~f.column.missing]).astype(int).tolist())
        for k in present:
            if k < len(f.column.levels):
                alike.setdefault(" ".join(f.column.levels[k].lower().split()), []).append(f.column.levels[k])
        pairs = [" and ".join(repr(w) for w in subset) for subset in alike.values() if len(subset) > 1]
        if pairs:
            out.append(f"{f.name}: {listed(pairs, SHOWN)} differ by case or blanks only; they are separate levels")
    return out


def _followed(words: Sequence[Facts]) -> list[str]:
    """A coarser column that a finer one determines, such as the origin of a maker."""
    out = []
    for fine in words:
        if fine.rows < ROWS_A_LEVEL * fine.distinct or fine.distinct < 3:
            continue
        follow = [coarse.name for coarse in words if coarse.distinct < fine.distinct and _determines(fine, coarse)]
        if follow:
            verb = "is" if len(follow) == 1 else "are"
            out.append(f"{listed(follow, SHOWN)} {verb} determined by {fine.name} (one value per level of {fine.name})")
    return out


def _determines(fine: Facts, coarse: Facts) -> bool:
    both = ~fine.column.missing & ~coarse.column.missing
    if both.sum() < ROWS_A_LEVEL * fine.distinct:
        return False
    a, b = fine.column.values[both].astype(np.int64), coarse.column.values[both].astype(np.int64)
    pairs = np.unique(a * (int(b.max()) + 1) + b).size
    return pairs == np.unique(a).size and np.unique(b).size > 1


def _gaps_of_a_level(facts: Sequence[Facts], words: Sequence[Facts]) -> list[str]:
    """Columns that are missing exactly where another has one certain level."""
    result: dict[str, list[str]] = {}
    for f in facts:
        gap = f.column.missing
        if not gap.any() or gap.all():
            continue
        for other in words:
            if other is f or other.column.missing.any():
                continue
            of_gap = np.unique(other.column.values[gap])
            if of_gap.size == 1 and not (other.column.values[~gap] == of_gap[0]).any():
                result.setdefault(f"{other.name} is '{other.column.levels[int(of_gap[0])]}'", []).append(f.name)
                break
    return [f"missing exactly where {where}: {listed(names, SHOWN)}" for where, names in result.items()]
