"""Promise: what the kept set can be expected to do, from losses that no choice has seen.

Each fold's size and lens are chosen from the other folds of the same repeat, its set by a search inside its training rows; so
the loss of a test row has seen neither its own row nor its fold (Tibshirani and Tibshirani, 2009).

The honest score of each size: the same search rerun inside every training fold, its sets scored on the rows left out.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from itertools import combinations

import numpy as np

from chaff.arrays import Floats
from chaff.evaluate.limits import Limits
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.signal import Signals
from chaff.methods.search.size_choice import Choice, SizeRule, Sizes, choose
from chaff.methods.search.strategy import Strategy, Watcher, trail_of
from chaff.results.score import corrected_error
from chaff.results.trail import Trail
from chaff.work import Work, task

Set = frozenset[str]


@dataclass(frozen=True)
class HonestSizes:
    """Scores by size of searches that have not seen the rows they are scored on."""

    sizes: tuple[int, ...]
    values: Floats
    """float64 (sizes, splits)."""
    sets: tuple[tuple[Set, ...], ...] = field(repr=False)
    """Per split, the set of each size that the search inside it found: the largest that is no larger."""
    test_share: float

    @property
    def means(self) -> Floats:
        return np.asarray(self.values.mean(1))

    @property
    def errors(self) -> Floats:
        """Corrected standard errors over the splits (Nadeau and Bengio, 2003)."""
        return np.array([corrected_error(v, self.test_share) for v in self.values])

    def selection_frequency(self, size: int, feature: str) -> float:
        """In which share of the folds the search of that size took the feature."""
        k = self.sizes.index(size)
        return float(np.mean([feature in subset[k] for subset in self.sets]))


def honest_sizes(
    strategy: Strategy, scorer: SubsetScorer, pinned: Set, work: Work, sizes: Sequence[int], watcher: Watcher | None, limits: Limits
) -> HonestSizes | None:
    """Searches inside the training rows of every split; None where no split leaves two parts to search on.

    limits : of each of these searches; `seconds` is not looked at, so that the answer does not depend on the clock.
    """
    usable = [k for k in range(scorer.folds.count) if scorer.inside(k) is not None]
    if not usable or not sizes:
        return None
    of = len(usable)
    search = task(_search_inside, strategy, scorer, pinned, work, watcher, replace(limits, seconds=None), of)
    if scorer.closed and watcher is None and work.executor is None:  # else each search hands out its own sets
        trails = work.each(search, usable, "search inside the folds")
    else:
        trails = [search(k) for k in usable]
    sets = tuple(_sets_of(trail, scorer, sizes) for trail in trails)
    values = [scorer.on_split(k, list(subset)) for k, subset in zip(usable, sets, strict=True)]
    return HonestSizes(tuple(sizes), np.array(values).T, sets, scorer.test_share)


def _search_inside(
    strategy: Strategy, scorer: SubsetScorer, pinned: Set, work: Work, watcher: Watcher | None, limits: Limits, of: int, split: int
) -> Trail:
    inner = scorer.inside(split)
    assert inner is not None
    here = replace(work, seed=work.key("inside", split))
    return trail_of(
        strategy, inner.limited(limits), pinned, here, watcher=watcher, phase=f"{strategy.name}, inside fold {split + 1} of {of}"
    )


def _sets_of(trail: Trail, scorer: SubsetScorer, sizes: Sequence[int]) -> tuple[Set, ...]:
    """The best set of each size; of the next smaller where the search came through none; the smallest where all are larger."""
    best = trail.best_by_size(scorer.affordable)
    if not best:
        return (frozenset(),) * len(sizes)
    reached = [max([s for s in best if s <= size] or [min(best)]) for size in sizes]
    return tuple(trail.moves[best[s]].features for s in reached)


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
