"""Adjusted R², AIC and BIC of a set on all rows that a search saw, where the model has them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.evaluate.closed import ClosedEngine
from chaff.evaluate.closed_split import ClosedSplit
from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.used_rows import used_rows
from chaff.metrics import log_loss
from chaff.models.forms import sample
from chaff.models.logistic import FittedLogistic, Logistic
from chaff.stats.logistic import probabilities
from chaff.work import Work

NAMES = ("adjusted_r2", "aic", "bic")


@dataclass(frozen=True)
class Criteria:
    """Of one set; missing where the model has none."""

    adjusted_r2: float = float("nan")
    aic: float = float("nan")
    bic: float = float("nan")


def criteria(scorer: SubsetScorer, sets: Sequence[frozenset[str]]) -> list[Criteria]:
    """For least squares and ridge with a number target (degrees of freedom: the trace of the fit), and logistic with two classes."""
    if isinstance(scorer.engine, ClosedEngine) and not scorer.table.target.classes:
        whole = scorer.engine.on_all_rows
        rows = len(used_rows(scorer.table, scorer.folds)[0])
        return [_of_line(whole, [scorer.engine.place[f] for f in s], rows, scorer.engine.penalty) for s in sets]
    if isinstance(scorer.model, Logistic) and len(scorer.table.target.classes) == 2:
        return [_of_logistic(scorer, scorer.model, s) for s in sets]
    return [Criteria()] * len(sets)


def _of_line(whole: ClosedSplit, features: Sequence[int], rows: int, penalty: float) -> Criteria:
    """AIC and BIC count the intercept and the spread of the residuals too. Source: Akaike, 1974; Schwarz, 1978; Hastie and
    Tibshirani, 1990, for the degrees of freedom of ridge."""
    columns, _ = whole.solve(features)
    n = float(rows)
    rss = max(whole.error_of(features), 0.0) * n / whole.weight
    tss = whole.around * n / whole.weight
    df = _trace(whole.A[np.ix_(columns, columns)], penalty) if columns.size else 0.0
    left = n - df - 1.0
    adjusted = 1.0 - (rss / left) / (tss / (n - 1.0)) if left > 0 and tss > 0 else float("nan")
    if rss <= 0:
        return Criteria(adjusted, float("-inf"), float("-inf"))
    deviance = n * (np.log(2 * np.pi) + np.log(rss / n) + 1.0)
    return Criteria(float(adjusted), float(deviance + 2 * (df + 2)), float(deviance + np.log(n) * (df + 2)))


def _trace(A: Floats, penalty: float) -> float:
    """Degrees of freedom of ridge: the trace of (X'X + λD)⁻¹ X'X, D the diagonal of X'X, from A = X'X + λD."""
    if not penalty:
        return float(np.linalg.matrix_rank(A, hermitian=True))
    X = A.copy()
    X[np.diag_indices(len(A))] /= 1.0 + penalty
    return float(np.trace(np.linalg.lstsq(A, X, rcond=None)[0]))


def _of_logistic(scorer: SubsetScorer, model: Logistic, features: frozenset[str]) -> Criteria:
    table, _ = used_rows(scorer.table, scorer.folds)
    rows = sample(table.with_features(tuple(f for f in table.features if f in features)), "design")
    w = np.ones(len(table)) if table.weights is None else table.weights * (len(table) / table.weights.sum())
    if not features:
        share = np.repeat((w @ table.targets / w.sum())[None], len(table), 0)
        df = 0.0
    else:
        fitted = model.fit(rows, Work())
        assert isinstance(fitted, FittedLogistic)
        X = fitted.standard.apply(rows.data.X)
        share = probabilities(fitted.coefficients[0] + X @ fitted.coefficients[1:])
        curve = w * share[:, 0] * (1 - share[:, 0])
        H = X.T @ (X * curve[:, None])
        df = float(np.trace(np.linalg.lstsq(H + model.penalty * w.sum() * np.eye(len(H)), H, rcond=None)[0]))
    deviance = 2.0 * float(w @ log_loss(table.targets, share))
    return Criteria(float("nan"), deviance + 2 * (df + 1), deviance + float(np.log(len(table))) * (df + 1))
