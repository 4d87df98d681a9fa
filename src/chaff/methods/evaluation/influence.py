"""By how much every row moves a score: what its error, and that of a difference of scores, is made from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.metrics import Metric, Truth
from chaff.stats.influence import on_scale
from chaff.stats.paired_loss import Units
from chaff.stats.ranks import few_rows_bounds
from chaff.stats.stability import share_bounds
from chaff.stats.tail_probabilities import t_quantile

LEVEL = 0.95
STEP = 1e-6
FEW_OF_A_CLASS = 20  # rows, up to which their spread is too rough an estimate by itself
BY_ROWS = 0.3  # share that the bounds by the number of rows have then, which alone cover too often
FEW_OUT_OF_ORDER = 3.0  # rows of the rarer class times the share of pairs that are


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
        own_values, rest = np.flatnonzero(y == own), np.flatnonzero(y != own)
        if not own_values.size or not rest.size or not w[own_values].sum() > 0 or not w[rest].sum() > 0:
            return np.full(scores.size, np.nan)
        order = rest[np.argsort(scores[rest], kind="stable")]
        heights, sums = scores[order], np.concatenate([[0.0], np.cumsum(w[order])])
        left, right = (np.searchsorted(heights, scores[own_values], side=s) for s in ("left", "right"))
        below = (sums[left] + sums[right]) / 2 / sums[-1]
        placed = below if own else 1.0 - below
        out[own_values] = (placed - auc) * w.sum() / w[own_values].sum()
    return out


def interval(moved: Moved, units: Units) -> tuple[float, float, float]:
    """(standard error, low, high) of a difference of scores; groups, order and weights as its rows have them."""
    result = units.mean(moved.influence)
    if not result.df > 0 or result.se != result.se:
        return float("nan"), float("nan"), float("nan")
    reach = t_quantile(0.5 + LEVEL / 2, result.df) * result.se
    return result.se, moved.score - reach, moved.score + reach


def score_interval(metric: Metric, truth: Truth, moved: Moved, units: Units) -> tuple[float, float, float]:
    """(standard error, low, high) of a score, never outside what it can be.

    The ROC AUC on the logit scale, and where hardly any pair is out of order on the way to the bounds that the number of rows alone
    gives; shares by Wilson's bounds on the effective count of rows; losses by their logarithm, and R² by that of 1 − R². In simulation
    they cover 0.93 to 0.97 (benchmarks/defending_rates.py).
    """
    result = units.mean(moved.influence)
    if not result.df > 0 or result.se != result.se:
        return float("nan"), float("nan"), float("nan")
    score, se = moved.score, result.se
    if metric.of_losses is None:
        low, high = _of_area(truth, score, se, result.df, units)
    elif metric.least == 0.0 and metric.most == 1.0:
        low, high = share_bounds(score * (count := _effective(score, se, units, truth)), count, LEVEL)
    else:
        lost = 1.0 - score if metric.name == "r2" else score
        if not lost > 0:
            return se, score, score
        reach = float(np.exp(t_quantile(0.5 + LEVEL / 2, result.df) * se / lost))
        low, high = lost / reach, lost * reach
        low, high = (1.0 - high, 1.0 - low) if metric.name == "r2" else (low, high)
    return se, low, high


def _effective(share: float, se: float, units: Units, truth: Truth) -> float:
    """So many independent rows would tell a share as well."""
    w = truth.weights
    rows = float(w.sum() ** 2 / (w @ w))
    if units.groups is None and units.order is None:
        return rows
    if se > 0 and 0 < share < 1:
        return min(rows, share * (1.0 - share) / se**2)
    return rows if units.groups is None else min(rows, float(np.unique(units.groups).size))


def _of_area(truth: Truth, auc: float, se: float, df: float, units: Units) -> tuple[float, float]:
    y, w = truth.targets[:, 0] > 0.5, truth.weights
    own, rest = (float(v.sum() ** 2 / (v @ v)) if v.size else 0.0 for v in (w[y], w[~y]))
    if units.groups is not None:
        groups = float(np.unique(units.groups).size)
        own, rest = min(own, groups), min(rest, groups)
    by_rows = tuple(float(b[0]) for b in few_rows_bounds(np.array([auc]), np.array([own]), np.array([rest]), LEVEL))
    if not 0 < auc < 1 or not se > 0:
        return by_rows[0], by_rows[1]
    low, high = on_scale(auc, se, df, LEVEL, "logit")
    fewest = min(own, rest)
    if fewest > FEW_OF_A_CLASS and fewest * min(auc, 1.0 - auc) >= FEW_OUT_OF_ORDER:
        return low, high
    return (1 - BY_ROWS) * low + BY_ROWS * by_rows[0], (1 - BY_ROWS) * high + BY_ROWS * by_rows[1]
