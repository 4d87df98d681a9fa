"""The honest score of each size: the same search rerun inside every training fold, its sets scored on the rows left out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from chaff.arrays import Floats
from chaff.evaluate.limits import Limits
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.progress import Watcher
from chaff.methods.search.strategy import Strategy, trail_of
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
