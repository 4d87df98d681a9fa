"""By how much every row moves a score: what its error, and that of a difference of scores, is made from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.metrics import Metric, Truth
from chaff.stats.pooled import Units
from chaff.stats.tails import t_quantile

LEVEL = 0.95
STEP = 1e-6


@dataclass(frozen=True)
class Moved:
    """A score, and the influence of every row on it."""

    score: float
    influence: Floats
    """float64 (n,): to first order the score is that of all rows plus the weighted mean of these."""


def moved_by(metric: Metric, truth: Truth, predicted: Floats) -> Moved:
    """A metric with the influence of every row.

    Of metrics that are a function of mean losses by the delta method; of the ROC AUC by what each row's rank among the other class
    says (DeLong, DeLong and Clarke-Pearson, 1988).
    """
    score = metric.of_predictions(truth, predicted)
    if metric.row_loss is None or metric.of_losses is None:
        return Moved(score, _of_ranks(truth, predicted[:, 0], score))
    rows, of_losses = metric.losses(truth, predicted), metric.of_losses
    w, total = rows.weights, float(rows.weights.sum())
    a, b = (float((w * x).sum() / total) for x in (rows.loss, rows.none))

    def slope(x: float, y: float, by_first: bool) -> float:
        step = STEP * max(abs(x if by_first else y), 1e-12)
        ahead, behind = ((x + step, y), (x - step, y)) if by_first else ((x, y + step), (x, y - step))
        high, low = (of_losses(p * total, q * total, total) for p, q in (ahead, behind))
        return (high - low) / (2 * step)

    return Moved(score, slope(a, b, True) * (rows.loss - a) + slope(a, b, False) * (rows.none - b))


def _of_ranks(truth: Truth, scores: Floats, auc: float) -> Floats:
    y, w = truth.targets[:, 0] > 0.5, truth.weights
    out = np.zeros(scores.size)
    for own in (True, False):
        mine, rest = np.flatnonzero(y == own), np.flatnonzero(y != own)
        if not mine.size or not rest.size or not w[mine].sum() > 0 or not w[rest].sum() > 0:
            return np.full(scores.size, np.nan)
        order = rest[np.argsort(scores[rest], kind="stable")]
        heights, sums = scores[order], np.concatenate([[0.0], np.cumsum(w[order])])
        left, right = (np.searchsorted(heights, scores[mine], side=s) for s in ("left", "right"))
        below = (sums[left] + sums[right]) / 2 / sums[-1]
        placed = below if own else 1.0 - below
        out[mine] = (placed - auc) * w.sum() / w[mine].sum()
    return out


def interval(moved: Moved, units: Units) -> tuple[float, float, float]:
    """(standard error, low, high) of a score; groups, order and weights as its rows have them."""
    found = units.mean(moved.influence)
    if not found.df > 0 or found.se != found.se:
        return float("nan"), float("nan"), float("nan")
    reach = t_quantile(0.5 + LEVEL / 2, found.df) * found.se
    return found.se, moved.score - reach, moved.score + reach
