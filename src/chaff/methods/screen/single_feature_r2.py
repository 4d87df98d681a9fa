"""What one feature alone predicts, cross-validated: binned means for every kind, a straight line besides for numbers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.evaluate.setting import Setting
from chaff.folds import Folds, Split
from chaff.kernels.class_sums import sums_with_targets
from chaff.kernels.counts import sums_by_code
from chaff.stats.tolerances import FLAT
from chaff.table.bins import FeatureBins, FeatureBinsLearner
from chaff.table.table import Table
from chaff.work import task

SINGLE_BINS = 20
PENALTY = 0.01  # of the line
SHIFT_ROWS = 100


def single_feature_r2(table: Table, features: Sequence[str], setting: Setting) -> Floats:
    """R² about the training mean (of class indicators for classes) of the better of the two one-feature models."""
    if not features:
        return np.empty(0)
    binned = _binned_r2(table, features, setting)
    numbers = [f for f in features if table.kind(f) in ("number", "binary")]
    if numbers:
        line = dict(zip(numbers, _line_r2(table.with_features(numbers), setting), strict=True))
        binned = np.array([max(b, line.get(f, -np.inf)) for f, b in zip(features, binned, strict=True)])
    return binned


def _line_r2(table: Table, setting: Setting) -> Floats:
    """R² of ridge on each feature alone, from sums over the parts of the folds: one pass a column, no table of all pairs."""
    folds, y = setting.folds, table.targets - np.average(table.targets, axis=0, weights=table.weights)
    w = np.empty(0) if table.weights is None else table.weights
    out = np.zeros(len(table.features))
    for repeat, part in enumerate(folds.parts):
        made = task(_sums_of_parts, table, part, y, w, int(part.max()) + 1)
        sums = np.array(setting.work.each(made, table.features))
        for split in (s for s in folds.splits if s.repeat == repeat):
            train, test = (y[r] for r in folds.rows(split))
            weights = [None if table.weights is None else table.weights[r] for r in folds.rows(split)]
            centre = np.average(train, axis=0, weights=weights[0])
            around = float(np.sum((test - centre) ** 2 * (1.0 if weights[1] is None else weights[1][:, None])))
            gain = _line_gain(sums[:, list(split.train)].sum(1), sums[:, split.test], centre)
            out += gain / around if around > 0 else 0.0
    return out / folds.count


def _sums_of_parts(table: Table, part: Ints, y: Floats, w: Floats, parts: int, name: str) -> Floats:
    values = table.column(name).values
    subset = values[:: max(1, values.size // SHIFT_ROWS)]
    present = subset[~np.isnan(subset)]
    out = np.zeros((parts, 3 + 2 * y.shape[1]))
    sums_with_targets(values, float(np.median(present)) if present.size else 0.0, part, y, w, out)
    return out


def _line_gain(train: Floats, test: Floats, centre: Floats) -> Floats:
    """Squared error that each feature's line saves on the test rows, summed over targets; missing cells count as the mean.

    train, test : float64 (features, 3 + 2 t), as `sums_with_targets` gives them.
    """
    t = centre.size
    with np.errstate(all="ignore"):
        mean = np.where(train[:, 0] > 0, train[:, 1] / train[:, 0], 0.0)
    spread = train[:, 2] - train[:, 0] * mean**2
    live = spread > FLAT * np.maximum(train[:, 2], np.finfo(float).tiny)
    together = train[:, 3 + t :] - mean[:, None] * train[:, 3 : 3 + t]
    beta = np.where(live[:, None], together / np.where(live, spread * (1.0 + PENALTY), 1.0)[:, None], 0.0)
    squares = test[:, 2] - 2.0 * mean * test[:, 1] + mean**2 * test[:, 0]
    off = test[:, 1] - mean * test[:, 0]
    products = test[:, 3 + t :] - mean[:, None] * test[:, 3 : 3 + t] - centre * off[:, None]
    return np.asarray((2.0 * beta * products - beta**2 * squares[:, None]).sum(1))


@dataclass(frozen=True)
class SplitRows:
    """What every feature's binned means need of one split."""

    train: Ints
    test: Ints
    y_train: Floats
    """About the training mean."""
    y_test: Floats
    w_train: Floats
    """Of length 0 where all rows count alike."""
    w_test: Floats
    around: float


def _split_rows(table: Table, split: Split, folds: Folds) -> SplitRows:
    train, test = folds.rows(split)
    w = table.weights
    w_train, w_test = (np.empty(0) if w is None else w[r] for r in (train, test))
    centre = np.average(table.targets[train], axis=0, weights=None if w is None else w_train)
    y_train, y_test = (np.ascontiguousarray(table.targets[r] - centre) for r in (train, test))
    around = float((y_test**2 * (w_test[:, None] if w_test.size else 1.0)).sum())
    return SplitRows(train, test, y_train, y_test, w_train, w_test, around)


def _binned_r2(table: Table, features: Sequence[str], setting: Setting) -> Floats:
    """Means of the target per bin of the training rows, drawn towards the training mean by the weight of one row."""
    splits = [_split_rows(table, s, setting.folds) for s in setting.folds.splits]
    return np.array(setting.work.each(task(_binned_of, table, splits), features)) / setting.folds.count


def _binned_of(table: Table, splits: list[SplitRows], name: str) -> float:
    """R² of one feature, added up over the splits."""
    column = table.column(name)
    category, total = column.kind in ("category", "text"), 0.0
    for s in splits:
        learner = FeatureBinsLearner(category, len(column.levels), SINGLE_BINS)
        learner.add(column.values[s.train])
        bins = learner.finish()
        a = _sums(bins, column.values[s.train], s.y_train, s.w_train)
        b = _sums(bins, column.values[s.test], s.y_test, s.w_test)
        means = a[:, 1:] / (a[:, :1] + 1.0)
        gain = float((2.0 * means * b[:, 1:] - means**2 * b[:, :1]).sum())
        total += gain / s.around if s.around > 0 else 0.0
    return total


def _sums(bins: FeatureBins, values: Floats, targets: Floats, weights: Floats) -> Floats:
    out = np.zeros((1, max(bins.codes, 1), 1 + targets.shape[1]))
    sums_by_code(bins.code(values)[None], targets, weights, out)
    answer: Floats = out[0]
    return answer
