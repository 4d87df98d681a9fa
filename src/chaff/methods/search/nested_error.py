"""How much wider an honest score's error is than its rows alone say: nested cross-validation.

Folds share training rows, so that losses of different folds go together and the error made from rows as if they were
independent is too small. Source: Bates, Hastie and Tibshirani, 2023.
"""

from __future__ import annotations

from itertools import combinations

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ChaffError
from chaff.evaluate.fitted import truth_of
from chaff.folds import make_folds
from chaff.methods.search.ground import Ground
from chaff.models.forms import learn_form
from chaff.models.protocols import Model
from chaff.stats.paired_loss import mean_difference
from chaff.table.table import Table
from chaff.work import Work, task

MOST_ROWS = 8_000  # more say nothing new of the ratio
MANY, FEW = 8, 2  # repeats under and from 700 rows
LARGE = 700
FOLDS = 5


def error_inflation(ground: Ground, model: Model, features: frozenset[str]) -> float:
    """Standard error by nested cross-validation over the one of rows, within [1, √folds]; 1 with an order, whose folds share
    nothing of that kind to be measured by, or for the empty set."""
    table = ground.table.with_features(tuple(f for f in ground.table.features if f in features))
    if not features or table.order is not None:
        return 1.0
    work = ground.work
    if len(table) > MOST_ROWS:
        table = table.take(np.sort(work.stream("nested error").choice(len(table), MOST_ROWS, replace=False)))
    repeats = MANY if len(table) < LARGE else FEW
    try:
        parts = [make_folds(table, FOLDS, 1, Work(work.key("nested error", r), 1)).parts[0] for r in range(repeats)]
    except ChaffError:
        return 1.0
    units = [(r, left) for r in range(repeats) for left in [*((k,) for k in range(FOLDS)), *combinations(range(FOLDS), 2)]]
    found = dict(zip(units, work.each(task(_losses_without, table, model, ground, parts), units, "honest score"), strict=True))
    squares = [_repeat_squares(table, found, parts[r], r) for r in range(repeats)]
    naive = float(np.mean([s for _, s in squares]))
    mse = float(np.mean([m for m, _ in squares])) * (FOLDS - 1) / FOLDS
    if not naive > 0:
        return 1.0
    return float(np.clip(np.sqrt(max(mse, 0.0) / naive), 1.0, np.sqrt(FOLDS)))


def _losses_without(table: Table, model: Model, ground: Ground, parts: list[Ints], unit: tuple[int, tuple[int, ...]]) -> Floats:
    """Losses of the rows of the parts that are left out, by a model of all others; float64 (rows of the table,), NaN elsewhere."""
    repeat, left = unit
    out = np.isin(parts[repeat], left)
    train, test = table.take(np.flatnonzero(~out)), table.take(np.flatnonzero(out))
    work = Work(ground.work.key("nested error", repeat, left), 1)
    learns = learn_form(model.learns, train, work)
    reads = learns if model.reads == model.learns else learn_form(model.reads, train, work)
    predicted = model.fit(learns.apply(train), work).predict(reads.apply(test))
    losses = np.full(len(table), np.nan)
    losses[out] = ground.losses(truth_of(train, test), predicted).loss
    return losses


def _repeat_squares(table: Table, found: dict[tuple[int, tuple[int, ...]], Floats], part: Ints, r: int) -> tuple[float, float]:
    """(estimate of the squared error of a cross-validated mean, the same by rows alone) of one partition."""
    w = np.ones(len(table)) if table.weights is None else table.weights
    terms = []
    whole = np.full(len(table), np.nan)
    for k in range(FOLDS):
        here, rest = part == k, part != k
        outer = found[r, (k,)]
        whole[here] = outer[here]
        inner = np.full(len(table), np.nan)
        for j in range(FOLDS):
            if j != k:
                rows = part == j
                inner[rows] = found[r, (min(j, k), max(j, k))][rows]
        groups = None if table.groups is None else table.groups[here]
        b = mean_difference(outer[here], w[here], groups)
        a = float(np.average(inner[rest], weights=w[rest]))
        terms.append((a - b.mean) ** 2 - b.se**2)
    return float(np.mean(terms)), mean_difference(whole, w, table.groups).se ** 2
