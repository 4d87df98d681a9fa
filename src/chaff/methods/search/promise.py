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

from chaff.arrays import Floats, Ints
from chaff.methods.search.curve import Choice, Curve, SizeRule, choose
from chaff.methods.search.ground import Ground, averaged
from chaff.methods.search.signal import Signals

APART = 0.34  # as often as this at most are columns that stand in for each other kept together, of the folds that keep either
OFTEN = 0.2  # kept in so many folds at least


@dataclass(frozen=True)
class Promise:
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

    def kept_share(self, feature: str) -> float:
        """In how many of the folds a feature was kept."""
        return float(np.mean([feature in s for s in self.sets])) if self.sets else float("nan")

    def stand_ins(self) -> tuple[tuple[str, str], ...]:
        """Pairs that are kept in turn and hardly ever together."""
        count = Counter(f for s in self.sets for f in s)
        both = Counter(pair for s in self.sets for pair in combinations(sorted(s), 2))
        often = sorted(f for f, c in count.items() if OFTEN * len(self.sets) <= c < len(self.sets))
        found = []
        for a, b in combinations(often, 2):
            together, either = both[a, b], count[a] + count[b] - both[a, b]
            expected = count[a] * count[b] / len(self.sets)
            if either >= 0.8 * len(self.sets) and together <= APART * expected:
                found.append((a, b))
        return tuple(found)


def promise_of(curves: Sequence[Curve], ground: Ground, rule: SizeRule, signals: Signals, full: int, floor: int) -> Promise:
    """Fold by fold, the choice made from the other folds of its repeat.

    Parameters
    ----------
    signals : Signals
        Whether some single column is beyond chance on the training rows of a split.
    full : int
        The curve that speaks for the full set.
    """
    shape = (ground.repeats, len(ground.table))
    kept, whole = np.full(shape, np.nan), np.full(shape, np.nan)
    values, full_values, sets = [], [], []
    for k, split in enumerate(ground.splits):
        others = np.array([j for j, s in enumerate(ground.splits) if s.repeat == split.repeat and j != k], np.int64)
        rows = ground.folds.rows(split)[1]
        choice = choose(curves, ground, rule, partial(signals.on, k), others, floor) if others.size else Choice(full, 0, 0, 0, True)
        curve = curves[choice.curve]
        kept[split.repeat, rows] = curve.losses[choice.place, split.repeat, rows]
        whole[split.repeat, rows] = curves[full].losses[-1, split.repeat, rows]
        values.append(curve.values[choice.place, k])
        full_values.append(curves[full].values[-1, k])
        sets.append(curve.inside[k][choice.place])
    return Promise(kept, whole, ground.none.losses[0], np.array(values), np.array(full_values), tuple(sets))


def rows_seen(promise: Promise) -> Ints:
    """Rows that have a loss."""
    return np.flatnonzero(~np.isnan(averaged(promise.kept)))
