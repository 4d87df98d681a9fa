"""What one feature alone predicts, cross-validated: binned means for every kind, a straight line besides for numbers."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from chaff.arrays import Floats
from chaff.evaluate.setting import Setting
from chaff.folds import Folds
from chaff.kernels.counts import sums_by_code
from chaff.models.least_squares import Ridge
from chaff.table.bins import Binning
from chaff.table.table import Table

SINGLE_BINS = 20


def single_feature_r2(table: Table, features: Sequence[str], setting: Setting) -> Floats:
    """R² about the training mean (of class indicators for classes) of the better of the two one-feature models."""
    if not features:
        return np.empty(0)
    binned = _binned_r2(table, features, setting.folds)
    numbers = [f for f in features if table.kind(f) in ("number", "binary")]
    if numbers:
        line = dict(zip(numbers, _line_r2(table.with_features(numbers), setting), strict=True))
        binned = np.array([max(b, line.get(f, -np.inf)) for f, b in zip(features, binned, strict=True)])
    return binned


def _line_r2(table: Table, setting: Setting) -> Floats:
    return setting.scorer(table, Ridge(), "r2").walk().changes().means


def _binned_r2(table: Table, features: Sequence[str], folds: Folds) -> Floats:
    """Means of the target per bin of the training rows, drawn towards the training mean by the weight of one row."""
    out = np.zeros(len(features))
    for split in folds.splits:
        train, test = (table.take(rows) for rows in folds.rows(split))
        binning = Binning.learn(train, features, SINGLE_BINS)
        centre = np.average(train.targets, axis=0, weights=train.weights)
        a = _sums(binning, train, centre)
        b = _sums(binning, test, centre)
        means = a[:, :, 1:] / (a[:, :, :1] + 1.0)
        w = np.ones(len(test)) if test.weights is None else test.weights
        around = float((w[:, None] * (test.targets - centre) ** 2).sum())
        gain = (2.0 * means * b[:, :, 1:] - means**2 * b[:, :, :1]).sum((1, 2))
        out += gain / around if around > 0 else 0.0
    return out / folds.count


def _sums(binning: Binning, table: Table, centre: Floats) -> Floats:
    bins = binning.apply(table)
    out = np.zeros((len(binning.features), 256, 1 + centre.size))
    weights = np.empty(0) if table.weights is None else table.weights
    sums_by_code(bins.codes, np.ascontiguousarray(table.targets - centre), weights, out)
    return out
