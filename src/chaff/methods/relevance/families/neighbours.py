"""By neighbours: mutual information without bins, and the Relief score that sees features in company."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.kernels.neighbours import add_differences, add_weighted_differences
from chaff.methods.relevance.relevance_data import RelevanceData
from chaff.methods.relevance.statistic import CN, EVERY, NC, NN, Family, FilterStatistic
from chaff.stats.neighbours import between_number_and_levels, between_numbers, without_ties
from chaff.work import task

RELIEF_ROWS = 1000  # rows whose neighbours are looked at


def sample(view: RelevanceData, name: str, most: int) -> Ints:
    """All rows, or a named random draw of them."""
    n = len(view.table)
    if n <= most:
        return np.arange(n)
    return np.asarray(np.sort(view.work.stream(name).choice(n, most, replace=False)))


def information(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Mutual information by nearest neighbours, on a sample of rows where there are many."""
    rows = sample(view, "neighbour rows", view.sample_rows)
    y = view.y[rows]
    of_target = view.work.stream("neighbour ties", "target").normal(size=rows.size)

    result = view.work.each(task(_of_feature, view, rows, y, of_target), features)
    return {"mutual_information_neighbours": [v for v, _ in result], "mutual_information_neighbours_rows": [n for _, n in result]}


def _of_feature(view: RelevanceData, rows: Ints, y: Floats, of_target: Floats, name: str) -> tuple[float, int]:
    """(mutual information, rows used) of one feature."""
    if view.table.kind(name) == "category":
        levels = view.levels_of(name)[0][rows]
        subset = levels >= 0
        alone = without_ties(y[subset], levels[subset].astype(float), of_target)
        return between_number_and_levels(alone, levels[subset], view.neighbours), int(subset.sum())
    x = view.table.column(name).values[rows]
    subset = ~np.isnan(x)
    x, own = x[subset], y[subset]
    alone = without_ties(x, own, view.work.stream("neighbour ties", name).normal(size=x.size))
    if view.regression:
        return between_numbers(alone, without_ties(own, x, of_target), view.neighbours), x.size
    return between_number_and_levels(alone, own.astype(np.int64), view.neighbours), x.size


def relief(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """The Relief score as a column."""
    return {"relief": relief_scores(view, features)}


def relief_scores(view: RelevanceData, features: list[str]) -> Floats:
    """Relief score of every feature: by how much it differs more between near rows of unlike target than of like target.

    Neighbours are sought over all features at once (Manhattan distance; numbers over the range of their middle 98 %,
    differences cut at 1; a missing number counts as its median, a missing level as a level of its own), so that a
    feature which only works beside another one scores. Above 0 it tells something; noise scatters about 0.
    """
    pool = sample(view, "relief rows", view.sample_rows)
    columns, category = _scaled(view, features, pool)
    chosen = np.arange(pool.size)
    if pool.size > RELIEF_ROWS:
        chosen = np.sort(view.work.stream("relief references").choice(pool.size, RELIEF_ROWS, replace=False))
    score = _of_numbers if view.regression else _of_classes
    target: Any = view.y[pool] if view.regression else view.classes[pool]
    parts = np.array_split(chosen, 8)
    done = view.work.each(task(score, columns, category, target, view.neighbours * 3 + 1), parts)
    total = np.sum([d[0] for d in done], 0)
    if not view.regression:
        return np.asarray(total[:, 0] / chosen.size)
    differ, both, unlike = total[:, 0], total[:, 1], float(np.sum([d[1] for d in done]))
    with np.errstate(all="ignore"):
        k = min(view.neighbours * 3 + 1, pool.size - 1)
        return np.asarray(both / unlike - (differ - both) / (chosen.size * k - unlike))


def _scaled(view: RelevanceData, features: list[str], rows: Ints) -> tuple[Floats, Any]:
    columns = np.empty((len(features), rows.size))
    category = np.zeros(len(features), bool)
    for j, name in enumerate(features):
        column = view.table.column(name)
        x = column.values[rows]
        missing = np.isnan(x)
        if column.kind in ("category", "binary"):
            category[j] = True
            columns[j] = np.where(missing, -1.0, x)
            continue
        if missing.all():
            columns[j] = 0.0
            continue
        low, middle, high = np.quantile(x[~missing], (0.01, 0.5, 0.99))
        columns[j] = np.where(missing, middle, x) / (high - low if high > low else 1.0)
    return columns, category


def _nearest(columns: Floats, category: Any, row: int, among: Any, k: int, scratch: Floats) -> Ints:
    """The k nearest other rows for which `among` holds."""
    if scratch[row] == 0.0:  # first use for this row
        add_differences(columns, category, row, scratch)
        scratch[row] = np.inf
    where = np.flatnonzero(among) if among is not None else np.arange(scratch.size)
    where = where[where != row]
    if where.size > k:
        where = where[np.argpartition(scratch[where], k)[:k]]
    return np.asarray(where)


def _of_classes(columns: Floats, category: Any, classes: Ints, k: int, part: Ints) -> tuple[Floats, float]:
    """k nearest of the same class against k nearest of every other, by the share of that class. Source: Kononenko, 1994."""
    share = np.bincount(classes) / classes.size
    out = np.zeros((columns.shape[0], 1))
    for row in part.tolist():
        scratch = np.zeros(classes.size)
        own = classes[row]
        for c in np.flatnonzero(share).tolist():
            near = _nearest(columns, category, row, classes == c, k, scratch)
            if not near.size:
                continue
            load = -1.0 if c == own else share[c] / (1.0 - share[own])
            add_weighted_differences(columns, category, row, near, np.full((near.size, 1), load / near.size), out)
    return out, 0.0


def _of_numbers(columns: Floats, category: Any, y: Floats, k: int, part: Ints) -> tuple[Floats, float]:
    """Unlike means: by the share of the target's range between them.  Source: Robnik-Šikonja and Kononenko, 1997."""
    low, high = np.quantile(y, (0.01, 0.99))
    scaled = y / (high - low if high > low else 1.0)
    out, unlike = np.zeros((columns.shape[0], 2)), 0.0
    for row in part.tolist():
        near = _nearest(columns, category, row, None, k, np.zeros(y.size))
        apart = np.minimum(np.abs(scaled[near] - scaled[row]), 1.0)
        unlike += float(apart.sum())
        add_weighted_differences(columns, category, row, near, np.stack([np.ones(near.size), apart], 1), out)
    return out, unlike


STATISTICS = (
    FilterStatistic(
        "mutual_information_neighbours",
        "mutual information by neighbours, nats",
        (NN, CN, NC),
        "higher",
        "Kraskov, Stögbauer and Grassberger, 2004; Ross, 2014",
        "no bins; a random draw of 5,000 rows where there are more.",
        150,
        "neighbours are rows",
        tests=False,
        shuffles=True,
    ),
    FilterStatistic(
        "relief",
        "Relief score, by neighbours",
        EVERY,
        "higher",
        "Kononenko, 1994; Robnik-Šikonja and Kononenko, 1997",
        "sees features in company; asked for by name or `all`.",
        200,
        "neighbours are rows",
        by_request=True,
        tests=False,
        shuffles=True,
    ),
)
FAMILIES = (Family(information, (NN, CN, NC), ("mutual_information_neighbours",)), Family(relief, EVERY, ("relief",)))
