"""Promise: what the kept set can be expected to do, from losses that no choice has seen.

Each fold's size and lens are chosen from the other folds of the same repeat, its set by a search inside its training rows; so
the loss of a test row has seen neither its own row nor its fold (Tibshirani and Tibshirani, 2009).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from itertools import combinations

import numpy as np

from chaff.arrays import Floats
from chaff.methods.search.signal import Signals
from chaff.methods.search.size_choice import Choice, SizeRule, Sizes, choose

APART = 0.34  # as often as this at most are columns that stand in for each other kept together, of the folds that keep either
OFTEN = 0.2  # kept in so many folds at least


@dataclass(frozen=True)
class HonestLosses:
    """Row losses of the kept set and of the full one, and the sets that the folds kept."""

    kept: Floats
    """float64 (repeats, rows)."""
    full: Floats
    none: Floats
    values: Floats
    """float64 (splits,), the metric of the kept set."""
    full_values: Floats
    sets: tuple[frozenset[str], ...]
    """What each split kept."""

    def selection_frequency(self, feature: str) -> float:
        """In how many of the folds a feature was kept."""
        return float(np.mean([feature in s for s in self.sets])) if self.sets else float("nan")

    def interchangeable(self) -> tuple[tuple[str, str], ...]:
        """Pairs that are kept in turn and hardly ever together."""
        count = Counter(f for s in self.sets for f in s)
        both = Counter(pair for s in self.sets for pair in combinations(sorted(s), 2))
        often = sorted(f for f, c in count.items() if OFTEN * len(self.sets) <= c < len(self.sets))
        result = []
        for a, b in combinations(often, 2):
            together, either = both[a, b], count[a] + count[b] - both[a, b]
            expected = count[a] * count[b] / len(self.sets)
            if either >= 0.8 * len(self.sets) and together <= APART * expected:
                result.append((a, b))
        return tuple(result)


def choices_inside(sizes: Sizes, rule: SizeRule, signals: Signals, floor: int) -> list[Choice | None]:
    """For each split the choice that the other splits of its repeat make; None where there is no other."""
    out: list[Choice | None] = []
    splits = sizes.data.splits
    for k, split in enumerate(splits):
        others = np.array([j for j, s in enumerate(splits) if s.repeat == split.repeat and j != k], np.int64)
        out.append(choose(sizes, rule, partial(signals.on, k), others, floor) if others.size else None)
    return out


def honest_losses_of(sizes: Sizes, choices: Sequence[Choice | None]) -> HonestLosses:
    """Losses and sets of every fold's own choice, and of the full set at its best."""
    data, curves, full = sizes.data, sizes.curves, sizes.full()[0]
    shape = (data.times, len(data.table))
    kept, whole = np.full(shape, np.nan), np.full(shape, np.nan)
    values, full_values, sets = [], [], []
    for k, choice in enumerate(choices):
        repeat, rows = data.test_rows[k]
        curve, place = curves[full if choice is None else choice.curve], 0 if choice is None else choice.place
        kept[repeat, rows] = curve.losses[place][repeat, rows]
        whole[repeat, rows] = curves[full].losses[-1][repeat, rows]
        values.append(curve.values[place, k])
        full_values.append(curves[full].values[-1, k])
        sets.append(curve.inside[k][place])
    return HonestLosses(kept, whole, data.none.losses[0], np.array(values), np.array(full_values), tuple(sets))
