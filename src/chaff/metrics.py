"""Metrics: each knows what it reads, which way is better, and is shown in its own units."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError, nearest

Need = Literal["values", "labels", "scores", "probabilities"]
CLIP = 1e-12  # a probability of exactly 0 would make one wrong row cost infinitely much


@dataclass(frozen=True)
class Truth:
    """What predictions are held against."""

    targets: Floats
    """float64 (n, t): the number, one 0/1 column for two classes, one indicator per class for more."""
    weights: Floats
    """float64 (n,)."""
    train_means: Floats
    """float64 (t,): weighted means of the target columns over the training rows."""


@dataclass(frozen=True)
class Metric:
    """A way to score predictions."""

    name: str
    label: str
    """As printed: `R²`, `log loss`."""
    higher_is_better: bool
    needs: Need
    task: str
    """"regression", "classification" or "both"."""
    of_predictions: Callable[[Truth, Floats], float]
    of_errors: Callable[[float, float, float], float] | None = None
    """(squared error, squared error of the training mean, weight) → score, where that is all it needs."""
    two_classes_only: bool = False
    unit_of_target: bool = False


def _squared(truth: Truth, predicted: Floats) -> tuple[float, float, float]:
    w = truth.weights[:, None]
    error = float((w * (truth.targets - predicted) ** 2).sum())
    around = float((w * (truth.targets - truth.train_means) ** 2).sum())
    return error, around, float(truth.weights.sum())


def r2_of_errors(error: float, around: float, weight: float) -> float:
    """R² about the *training* mean: what is gained over predicting that mean; 0 where there is nothing to gain, since every
    test row sits on that mean or weighs nothing."""
    return 1.0 - error / around if around > 0 else 0.0


def _rmse_of_errors(error: float, around: float, weight: float) -> float:
    return float(np.sqrt(max(error, 0.0) / weight))


def full_probabilities(predicted: Floats) -> Floats:
    """(n, classes) from (n, 1) of the positive class, or as it is."""
    p = np.clip(predicted, CLIP, 1 - CLIP)
    if p.shape[1] == 1:
        return np.concatenate([1 - p, p], axis=1)
    return np.asarray(p / p.sum(1, keepdims=True))


def _indicators(truth: Truth) -> Floats:
    t = truth.targets
    return np.concatenate([1 - t, t], axis=1) if t.shape[1] == 1 else t


def _log_loss(truth: Truth, predicted: Floats) -> float:
    row = -(_indicators(truth) * np.log(full_probabilities(predicted))).sum(1)
    return float(np.average(row, weights=truth.weights))


def _accuracy(truth: Truth, predicted: Floats) -> float:
    hit = full_probabilities(predicted).argmax(1) == _indicators(truth).argmax(1)
    return float(np.average(hit, weights=truth.weights))


def _auc(truth: Truth, predicted: Floats) -> float:
    """Area under the ROC curve: the chance that a positive row is ranked above a negative one, ties half."""
    y, s, w = truth.targets[:, 0], predicted[:, 0], truth.weights
    order = np.argsort(s, kind="stable")
    y, s, w = y[order], s[order], w[order]
    edges = np.flatnonzero(np.diff(s, prepend=-np.inf) > 0)
    positive, negative = np.add.reduceat(w * y, edges), np.add.reduceat(w * (1 - y), edges)
    below = np.cumsum(negative) - negative
    pairs = positive.sum() * negative.sum()
    return float((positive * (below + negative / 2)).sum() / pairs) if pairs > 0 else float("nan")


METRICS = {
    m.name: m
    for m in (
        Metric("r2", "R²", True, "values", "both", lambda t, p: r2_of_errors(*_squared(t, p)), r2_of_errors),
        Metric(
            "rmse",
            "RMSE",
            False,
            "values",
            "regression",
            lambda t, p: _rmse_of_errors(*_squared(t, p)),
            _rmse_of_errors,
            unit_of_target=True,
        ),
        Metric(
            "mae",
            "MAE",
            False,
            "values",
            "regression",
            lambda t, p: float(np.average(np.abs(t.targets - p)[:, 0], weights=t.weights)),
            unit_of_target=True,
        ),
        Metric("log_loss", "log loss", False, "probabilities", "classification", _log_loss),
        Metric("auc", "ROC AUC", True, "scores", "classification", _auc, two_classes_only=True),
        Metric("accuracy", "accuracy", True, "labels", "classification", _accuracy),
    )
}


def find_metric(name: str, task: str, classes: int = 0) -> Metric:
    """The metric of that name, checked against the task."""
    if name not in METRICS:
        raise UsageError(f"unknown metric '{name}'; there are {', '.join(METRICS)}.{nearest(name, METRICS)}")
    metric = METRICS[name]
    if metric.task not in (task, "both"):
        fitting = [m.name for m in METRICS.values() if m.task in (task, "both")]
        raise UsageError(f"metric '{name}' does not fit a {task} target; fitting are {', '.join(fitting)}")
    if metric.two_classes_only and classes != 2:
        raise UsageError(f"metric '{name}' needs two classes, the target has {classes}")
    return metric


def default_metric(task: str) -> Metric:
    return METRICS["r2" if task == "regression" else "log_loss"]


def beside(task: str, classes: int) -> Metric:
    """The second metric that is shown beside the default one."""
    if task == "regression":
        return METRICS["rmse"]
    return METRICS["auc" if classes == 2 else "accuracy"]
