"""Choosing a size honestly: the whole search is run anew inside each training fold, its sets are scored on the test rows.

A search takes the luckiest of many noise columns, and in the folds it searched on that luck looks like skill in every fold,
so a rule on the path's own scores keeps some. Run inside the training rows it is lucky there and not on the test rows, so
that the score by size stops rising where the signal ends.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from chaff.evaluate.scorer import SubsetScorer
from chaff.results.trail import Move, Trail

GROWTH = 1.3  # where every size costs fits, sizes grow by this factor past the first few


def sizes_to_ask(sizes: list[int], every: bool) -> list[int]:
    """All sizes, or every small one and then ever wider apart, the largest always among them."""
    if every:
        return sizes
    some, wanted = [], 1.0
    for size in sizes:
        if size >= wanted or size == sizes[-1]:
            some.append(size)
            wanted = max(size + 1.0, size * GROWTH)
    return some


def nested_sizes(
    trail: Trail, scorer: SubsetScorer, judge: SubsetScorer, anew: Callable[[SubsetScorer], Trail], spared: frozenset[str]
) -> tuple[list[int], Trail] | None:
    """(sizes of the path, trail of their honest scores), or None where no split leaves folds inside its training rows.

    Parameters
    ----------
    trail : Trail
        The search's own path; the sets of the result are its sets, with what is spared.
    scorer : SubsetScorer
        What searches.
    judge : SubsetScorer
        What scores the sets on the test rows; the same folds.
    anew : callable
        Runs the search again with a scorer on folds inside a split.
    spared : frozenset of str
        Features that stay whatever the search says, so that sets are judged as they will be kept.
    """
    by_size = trail.best_by_size()
    sizes = sizes_to_ask(list(by_size), judge.closed)
    values = []
    for k in range(scorer.folds.count):
        inner = scorer.inside(k)
        if inner is None:
            continue
        found = anew(inner)
        sets = {s: found.moves[m].features for s, m in found.best_by_size().items()}
        sizes = [s for s in sizes if s in sets]
        values.append(dict(zip(sizes, judge.on_split(k, [sets[s] | spared for s in sizes]), strict=True)))
    if len(values) < 2 or not sizes:
        return None
    moves = tuple(Move("size", "", trail.moves[by_size[s]].features | spared, np.array([v[s] for v in values]), "nested") for s in sizes)
    metric = judge.metric
    note = f"{scorer.folds.how}, the search run anew inside each, {metric.label} of {judge.model.label}"
    return sizes, Trail("sizes", moves, trail.offered, metric.name, metric.higher_is_better, trail.test_share, (note,))
