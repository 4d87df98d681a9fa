"""How much wider an honest score's error is than its rows alone say: nested cross-validation.

Folds share training rows, so that losses of different folds go together and the error made from rows as if they were
independent is too small. Source: Bates, Hastie and Tibshirani, 2023.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import ChaffError
from chaff.evaluate.fitted import truth_of
from chaff.folds import make_folds
from chaff.methods.search.search_data import SearchData
from chaff.models.forest import Forest
from chaff.models.forms import learn_form
from chaff.models.protocols import Model
from chaff.stats.paired_loss import mean_difference
from chaff.table.table import Table
from chaff.work import Work, task

MOST_ROWS = 8_000  # more say nothing new of the ratio
MANY, FEW = 8, 2  # repeats under and from 700 rows
LARGE = 700
FOLDS = 5
LEAST = 1.35  # with less, 90 % intervals covered 77 % on benchmarks/mill_families.py: nested errors of few repeats are noisy
TO_ALL = (1 / 0.8 - 1) / (1 / 0.6 - 1 / 0.8)  # of a loss that falls as one over the rows
TREES = 30


@dataclass(frozen=True)
class NestedError:
    """What nested cross-validation says of a cross-validated mean loss."""

    inflation: float = 1.0
    """Its standard error over the one of rows, within [1.35, √folds]; 1 where it was not measured."""
    learning: float = 0.0
    """By how much the mean loss should still fall from four fifths of the rows, on which folds learn, to all of them: from
    three fifths to four fifths, told on as one over the rows."""


def nested_error(data: SearchData, model: Model, features: frozenset[str]) -> NestedError:
    """For a model on a fixed set; nothing with an order, whose folds share nothing of that kind, or for the empty set."""
    table = data.table.with_features(tuple(f for f in data.table.features if f in features))
    if not features or table.order is not None:
        return NestedError()
    work = data.work
    if isinstance(model, Forest):  # a ratio is asked for, not a score
        model = replace(model, trees=min(model.trees, TREES))
    if len(table) > MOST_ROWS:
        table = table.take(np.sort(work.stream("nested error").choice(len(table), MOST_ROWS, replace=False)))
    repeats = MANY if len(table) < LARGE else FEW
    try:
        parts = [make_folds(table, FOLDS, 1, Work(work.key("nested error", r), 1)).parts[0] for r in range(repeats)]
    except ChaffError:
        return NestedError()
    units = [(r, left) for r in range(repeats) for left in [*((k,) for k in range(FOLDS)), *combinations(range(FOLDS), 2)]]
    result = dict(zip(units, work.each(task(_losses_without, table, model, data, parts), units, "honest score"), strict=True))
    text = np.array([_repeat_errors(table, result, parts[r], r) for r in range(repeats)])
    mse, naive, falls = text.mean(0)
    if not naive > 0:
        return NestedError()
    inflation = float(np.clip(np.sqrt(max(mse * (FOLDS - 1) / FOLDS, 0.0) / naive), LEAST, np.sqrt(FOLDS)))
    return NestedError(inflation, max(float(falls), 0.0) * TO_ALL)


def _losses_without(table: Table, model: Model, data: SearchData, parts: list[Ints], unit: tuple[int, tuple[int, ...]]) -> Floats:
    """Losses of the rows of the parts that are left out, by a model of all others; float64 (rows of the table,), NaN elsewhere."""
    repeat, left = unit
    out = np.isin(parts[repeat], left)
    train, test = table.take(np.flatnonzero(~out)), table.take(np.flatnonzero(out))
    work = Work(data.work.key("nested error", repeat, left), 1)
    learns = learn_form(model.learns, train, work)
    reads = learns if model.reads == model.learns else learn_form(model.reads, train, work)
    predicted = model.fit(learns.apply(train), work).predict(reads.apply(test))
    losses = np.full(len(table), np.nan)
    losses[out] = data.losses(truth_of(train, test), predicted).loss
    return losses


def _repeat_errors(table: Table, result: dict[tuple[int, tuple[int, ...]], Floats], part: Ints, r: int) -> tuple[float, float, float]:
    """(estimate of the squared error of a cross-validated mean, the same by rows alone, fall of the mean loss from three fifths of
    the rows to four) of one partition."""
    w = np.ones(len(table)) if table.weights is None else table.weights
    terms, inside = [], []
    whole = np.full(len(table), np.nan)
    for k in range(FOLDS):
        here, rest = part == k, part != k
        outer = result[r, (k,)]
        whole[here] = outer[here]
        inner = np.full(len(table), np.nan)
        for j in range(FOLDS):
            if j != k:
                rows = part == j
                inner[rows] = result[r, (min(j, k), max(j, k))][rows]
        groups = None if table.groups is None else table.groups[here]
        b = mean_difference(outer[here], w[here], groups)
        a = float(np.average(inner[rest], weights=w[rest]))
        inside.append(a)
        terms.append((a - b.mean) ** 2 - b.se**2)
    outer_mean = mean_difference(whole, w, table.groups)
    return float(np.mean(terms)), outer_mean.se**2, float(np.mean(inside)) - outer_mean.mean
