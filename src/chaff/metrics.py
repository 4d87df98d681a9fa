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
class RowLosses:
    """What every test row of one split lost: by a set's predictions, and by knowing nothing but the training rows' means."""

    loss: Floats
    """float64 (n,)."""
    none: Floats
    """float64 (n,): the loss of the training mean, or of the training shares of the classes."""
    weights: Floats


@dataclass(frozen=True)
class Metric:
    """A way to score predictions: from the loss of each row where it is a mean of them, else from the predictions as a whole."""

    name: str
    label: str
    """As printed: `R²`, `log loss`."""
    higher_is_better: bool
    needs: Need
    task: str
    """"regression", "classification" or "both"."""
    row_loss: Callable[[Floats, Floats], Floats] | None
    """(targets (n, t), predicted (n, t)) → loss of each row (n,), lower is better; None where a single row has none."""
    of_losses: Callable[[float, float, float], float] | None
    """(weighted sum of the losses, the same of knowing nothing, weight) → score."""
    of_errors: Callable[[float, float, float], float] | None = None
    """(squared error, squared error of the training mean, weight) → score, where that is all it needs."""
    of_whole: Callable[[Truth, Floats], float] | None = None
    """From predictions as a whole, where rows have no loss of their own."""
    two_classes_only: bool = False
    unit_of_target: bool = False
    least: float = -np.inf
    """The worst or best that it can be."""
    most: float = np.inf

    def losses(self, truth: Truth, predicted: Floats) -> RowLosses:
        """The loss of every row.

        Raises
        ------
        UsageError
            Where the metric has none.
        """
        if self.row_loss is None:
            having = ", ".join(m.name for m in METRICS.values() if m.row_loss is not None)
            raise UsageError(f"metric '{self.name}' ranks rows against each other, so a single row has no loss; those that have: {having}")
        none = self.row_loss(truth.targets, np.broadcast_to(truth.train_means, truth.targets.shape))
        return RowLosses(self.row_loss(truth.targets, predicted), none, truth.weights)

    def of_predictions(self, truth: Truth, predicted: Floats) -> float:
        """The score of predictions (n, t)."""
        if self.of_losses is None:
            return self.of_whole(truth, predicted) if self.of_whole is not None else float("nan")
        rows = self.losses(truth, predicted)
        w = rows.weights
        return self.of_losses(float((w * rows.loss).sum()), float((w * rows.none).sum()), float(w.sum()))


def squared_loss(targets: Floats, predicted: Floats) -> Floats:
    """Over the leading axes of `predicted` (…, n, t)."""
    return np.asarray(((targets - predicted) ** 2).sum(-1))


def absolute_loss(targets: Floats, predicted: Floats) -> Floats:
    return np.asarray(np.abs(targets - predicted)[..., 0])


def log_loss(targets: Floats, predicted: Floats) -> Floats:
    """Minus the log of the share given to the class that it was; over the leading axes of `predicted` (…, n, t)."""
    p = full_probabilities(predicted.reshape(-1, predicted.shape[-1]))
    shares = p.reshape(*predicted.shape[:-1], p.shape[1])
    return np.asarray(-(indicators(targets) * np.log(shares)).sum(-1))


def miss(targets: Floats, predicted: Floats) -> Floats:
    """1 where the likeliest class is not the one that it was."""
    return np.asarray((full_probabilities(predicted).argmax(1) != indicators(targets).argmax(1)).astype(float))


def r2_of_errors(error: float, around: float, weight: float) -> float:
    """R² about the *training* mean: what is gained over predicting that mean; 0 where there is nothing to gain, since every
    test row sits on that mean or weighs nothing."""
    return 1.0 - error / around if around > 0 else 0.0


def parts_of_r2(lost: Floats, none: Floats, whole: float | None = None) -> Floats:
    """R² of every split as its part in that of all test rows, of which it is the mean over the splits.

    Each split's gain over knowing nothing is held against the mean loss of knowing nothing over all splits: of three test rows that
    happen to lie close together a ratio of their own would be anything. Knowing nothing is 0 in every split, so that the spread of
    the parts is that of the gain.

    Parameters
    ----------
    lost : float64 (…, splits)
        Mean loss of each split's test rows.
    none : float64 (splits,)
        The same of knowing nothing.
    whole : float, optional
        Mean of `none` over all splits, where these are only some.
    """
    whole = float(none.mean()) if whole is None else whole
    return np.asarray((none - lost) / whole) if whole > 0 else np.zeros(np.shape(lost))


def _root_mean(error: float, around: float, weight: float) -> float:
    return float(np.sqrt(max(error, 0.0) / weight))


def _mean(loss: float, none: float, weight: float) -> float:
    return loss / weight


def _share_hit(lost: float, none: float, weight: float) -> float:
    return 1.0 - lost / weight


def full_probabilities(predicted: Floats) -> Floats:
    """(n, classes) from (n, 1) of the positive class, or as it is."""
    p = np.clip(predicted, CLIP, 1 - CLIP)
    if p.shape[1] == 1:
        return np.concatenate([1 - p, p], axis=1)
    return np.asarray(p / p.sum(1, keepdims=True))


def indicators(targets: Floats) -> Floats:
    """(n, classes) from (n, 1) of the positive class, or as it is."""
    return np.concatenate([1 - targets, targets], axis=1) if targets.shape[1] == 1 else targets


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
        Metric("r2", "R²", True, "values", "both", squared_loss, r2_of_errors, r2_of_errors, most=1.0),
        Metric("rmse", "RMSE", False, "values", "regression", squared_loss, _root_mean, _root_mean, unit_of_target=True, least=0.0),
        Metric("mae", "MAE", False, "values", "regression", absolute_loss, _mean, unit_of_target=True, least=0.0),
        Metric("log_loss", "log loss", False, "probabilities", "classification", log_loss, _mean, least=0.0),
        Metric("auc", "ROC AUC", True, "scores", "classification", None, None, of_whole=_auc, two_classes_only=True, least=0.0, most=1.0),
        Metric(
            "accuracy",
            "accuracy",
            True,
            "labels",
            "classification",
            miss,
            lambda lost, none, weight: 1.0 - lost / weight,
            least=0.0,
            most=1.0,
        ),
    )
}


def find_metric(name: str, task: str, classes: int = 0) -> Metric:
    """The metric of that name, checked against the task."""
    if name not in METRICS:
        raise UsageError(f"unknown metric '{name}'; choose from {', '.join(METRICS)}.{nearest(name, METRICS)}")
    metric = METRICS[name]
    if metric.task not in (task, "both"):
        fitting = [m.name for m in METRICS.values() if m.task in (task, "both")]
        raise UsageError(f"metric '{name}' does not fit a {task} target; choose from {', '.join(fitting)}")
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
