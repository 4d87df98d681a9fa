"""Whether what two features tell together holds on rows that it was not learned from."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Bytes, Floats, Ints
from chaff.kernels.pairs import SIDE
from chaff.stats.pooled import Units

PRIOR = 4.0  # rows of nothing that every cell's mean is drawn towards
LEVEL = 0.05


def confirmed(a: Bytes, b: Bytes, rest: Floats, parts: Ints, units: Units) -> bool:
    """Whether the cells of two columns of codes, beyond a part for each column, predict `rest` on the other folds.

    rest : float64 (targets, rows), what an additive model left.  One-sided, at 5 %, counting what is independent.
    """
    gain = np.zeros(a.size)
    for k in range(int(parts.max()) + 1):
        train, test = np.flatnonzero(parts != k), np.flatnonzero(parts == k)
        if not train.size or not test.size:
            continue
        for target in rest:
            alone, together = _cells(a[train], b[train], target[train])
            at = (a[test], b[test])
            off = target[test] - alone[at]
            gain[test] += off**2 - (off - together[at]) ** 2
    return units.mean(gain).p_above(0.0) < LEVEL


def _cells(a: Bytes, b: Bytes, target: Floats) -> tuple[Floats, Floats]:
    """(16, 16): what a part for each column adds up to in each cell, and what the cell's own mean adds to it."""
    cell = a.astype(np.int64) * SIDE + b
    counts = np.bincount(cell, minlength=SIDE * SIDE).reshape(SIDE, SIDE).astype(float)
    sums = np.bincount(cell, target, SIDE * SIDE).reshape(SIDE, SIDE)
    of_a, of_b = counts.sum(1), counts.sum(0)
    rows, columns = of_a > 0, of_b > 0
    normal = np.block([[np.diag(of_a[rows]), counts[np.ix_(rows, columns)]], [counts[np.ix_(rows, columns)].T, np.diag(of_b[columns])]])
    parts = np.linalg.lstsq(normal, np.r_[sums.sum(1)[rows], sums.sum(0)[columns]], rcond=None)[0]
    alone = np.zeros((SIDE, SIDE))
    alone[rows] += parts[: rows.sum(), None]
    alone[:, columns] += parts[rows.sum() :]
    together = (sums - counts * alone) / (counts + PRIOR)
    return alone, together
