"""The forest lens: elimination by permutation importance out of bag, recomputed at each size.

One forest a size does both jobs: it predicts the test rows, and the rows that each of its trees has not learned from say
which features are needed least.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.evaluate.setting import Setting
from chaff.methods.relevance.stage import effect_sizes
from chaff.methods.search.lens import Path, judged
from chaff.methods.search.model_lens import TieBreak, without_weakest
from chaff.methods.search.search_data import SearchData, Set
from chaff.models.forest import Forest
from chaff.models.forms import BinsForm
from chaff.models.protocols import Model, Sample
from chaff.table.bins import Binning
from chaff.table.table import Table
from chaff.work import Work

CODES = 64  # finer bins change no ranking and cost time
LARGE = 30_000  # rows from which a tree is grown on a sample of them
ROWS_PER_TREE = 12_000
LARGE_LEAF = 50_000  # rows from which leaves may be coarser
JUDGED_ROWS = 6_000  # rows that importance is read from at most
JUDGED_OF_LARGE = 4_000  # where trees are grown on a sample too
SHUFFLES = 2
BLOCKS_IN_TIME = 20


@dataclass(frozen=True)
class ForestLens:
    """Growth fit for selecting: 60 trees, a third of the columns a split, leaves of 5 rows, 64 codes a column."""

    forest: Forest = Forest(trees=60, columns_per_split=1 / 3)
    label: str = "forest"
    as_it_is: bool = False
    """Whether the forest is a user's own, to be grown as they said."""

    @property
    def needs_moments(self) -> bool:
        return False

    @property
    def variants(self) -> tuple[Model, ...]:
        return (self.forest,)

    def grown(self, rows: int) -> Forest:
        """The forest as it is grown on so many rows."""
        if self.as_it_is:
            return self.forest
        leaf = 10 if rows >= LARGE_LEAF else self.forest.leaf_rows
        return replace(self.forest, leaf_rows=leaf, rows_per_tree=ROWS_PER_TREE if rows > LARGE else None)

    def paths(self, data: SearchData, where: int | None) -> list[Path]:
        """One path; see `Lens`."""
        offered = data.offered if where is None else data.offered_inside[where]
        split = None if where is None else data.splits[where]
        train = data.table if split is None else data.rows(split)[0]
        train = train.with_features(tuple(offered))
        name = "all" if split is None else f"{split.repeat}.{split.test}"
        work = Work(data.work.key("forest lens", name), 1)
        form = BinsForm(Binning.learn(train, train.features, None if self.as_it_is else CODES))
        rows = form.apply(train)
        test = None if split is None else form.apply(data.rows(split)[1].with_features(train.features))
        units = units_in(train, None if data.repeated is None else data.repeated[_positions(data, where)])
        repeats = data.repeats(where)
        result = self._eliminate(form, rows, test, units, data.pinned & set(offered), repeats, work, partial(_relevance, train), data.size)
        result = {size: subset for size, subset in result.items() if data.affordable(subset[0]) or size == len(offered)}
        result[0] = (frozenset(), None)
        sets = [result[s][0] for s in sorted(result)]
        if split is None:
            return [Path(tuple(sets))]
        predicted = dict(result.values())
        return [judged(data, split, sets, partial(_known, predicted))]

    def _eliminate(
        self,
        form: BinsForm,
        rows: Sample,
        test: Sample | None,
        units: Ints | None,
        pinned: Set,
        repeats: Collection[str],
        work: Work,
        tie_break: TieBreak,
        wanted: int | None,
    ) -> dict[int, tuple[Set, Floats | None]]:
        """Size → (set, its predictions for the test rows)."""
        out: dict[int, tuple[Set, Floats | None]] = {}
        current, shuffles = list(rows.features), SHUFFLES
        forest = self.grown(len(rows.targets))
        if test is None and not self.as_it_is:  # the path on all rows gives the sets themselves: it is worth twice the trees
            forest, shuffles = replace(forest, trees=2 * forest.trees), 2 * SHUFFLES
        chosen = judged_rows(rows, work)
        while current:
            here = form.select(rows, current)
            fitted = forest.grow(here, Work(work.key(len(current)), 1), units, mark=chosen)
            out[len(current)] = frozenset(current), None if test is None else fitted.predict(form.select(test, current))
            if len(current) == 1 or pinned >= set(current):
                break
            drops = fitted.out_of_bag_importance(here, chosen, shuffles, Work(work.key("shuffle", len(current)), 1))
            importance = dict(zip(current, drops.tolist(), strict=True))
            current = without_weakest(current, pinned, importance, tie_break, repeats, wanted)
        return out


def _relevance(train: Table, names: Sequence[str]) -> dict[str, float]:
    """The effect size of each by itself."""
    return effect_sizes(train.with_features(names), Setting.unfolded(train, Work(workers=1)), names)


def _positions(data: SearchData, where: int | None) -> Ints:
    return np.arange(len(data.table)) if where is None else data.folds.rows(data.splits[where])[0]


def _known(predicted: dict[Set, Floats | None], features: Set) -> Floats:
    result = predicted[features]
    assert result is not None
    return result


def judged_rows(rows: Sample, work: Work) -> Ints:
    """Rows that importance is read from: all, or a sample of many."""
    n = len(rows.targets)
    most = JUDGED_ROWS if n <= LARGE else JUDGED_OF_LARGE
    if n <= most:
        return np.arange(n)
    return np.sort(work.stream("judged rows").choice(n, most, replace=False))


def units_in(train: Table, repeated: Ints | None) -> Ints | None:
    """Rows that a tree draws together: a group, a stretch of time, or rows that repeat one another."""
    if train.order is not None:
        ranked = np.argsort(np.argsort(train.order, kind="stable"), kind="stable")
        return ranked * min(BLOCKS_IN_TIME, len(train)) // len(train)
    return train.groups if train.groups is not None else repeated


def lens_of_forest(model: Forest) -> ForestLens:
    return ForestLens(model, model.label, as_it_is=True)
