"""Choosing a point of a trail without searching again.

Adjusted R², AIC and BIC of a set on all rows that a search saw, where the model has them.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.choices import fits
from chaff.errors import UsageError, nearest
from chaff.evaluate.closed import ClosedEngine
from chaff.evaluate.closed_split import ClosedSplit
from chaff.evaluate.limits import used_rows
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.size_choice import SizeRule, bound_of
from chaff.metrics import log_loss
from chaff.models.forms import sample
from chaff.models.logistic import FittedLogistic, Logistic
from chaff.results.digits import score as in_digits
from chaff.results.score import corrected_error
from chaff.stats.logistic import probabilities
from chaff.visible import Shown
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


WORDS = ("smallest", "best", "one standard error", "knee", *NAMES)
NUMBERS = ("share", "size", "cost")
EXAMPLE = '"smallest", "best", "one standard error", "knee", "adjusted_r2", "aic", "bic", {"share": 0.98}, {"size": 5} or {"cost": 20}'


@dataclass(frozen=True)
class Rule:
    """How a size is chosen: one of `WORDS`, or one of `NUMBERS` with its number."""

    name: str
    number: float = float("nan")

    @classmethod
    def parse(cls, rule: Any) -> Rule:
        """From a name or a mapping of one entry.

        Raises
        ------
        UsageError
        """
        if isinstance(rule, Rule):
            return rule
        if isinstance(rule, Mapping) and len(rule) == 1:
            name, number = next(iter(rule.items()))
            if name in NUMBERS and fits(number, float):
                return cls._checked(name, float(number))
        name = str(rule) if isinstance(rule, str) else ""
        if name not in WORDS:
            hint = nearest(name, [*WORDS, *NUMBERS]) if name else ""
            raise UsageError(f"a choice is {EXAMPLE}, not {rule!r}.{hint}")
        return cls(name)

    @classmethod
    def _checked(cls, name: str, number: float) -> Rule:
        if name == "share" and not 0 < number <= 1:
            raise UsageError(f"share must be over 0 and at most 1, not {number:g}")
        if name == "size" and (number != int(number) or number < 0):
            raise UsageError(f"size must be a whole number, 0 or more, not {number:g}")
        if name == "cost" and not number >= 0:
            raise UsageError(f"cost must be 0 or more, not {number:g}")
        return cls(name, number)

    def __str__(self) -> str:
        given = {
            "smallest": str(SizeRule()),
            "best": "the best score",
            "one standard error": "the smallest set within one SE of the paired difference",
            "knee": "the knee of the curve",
            "adjusted_r2": "the highest adjusted R²",
            "aic": "the lowest AIC",
            "bic": "the lowest BIC",
            "share": f"the smallest set with {self.number:.0%} of the best improvement over the baseline",
            "size": f"{self.number:.0f} features, set by hand",
            "cost": f"the best that costs at most {self.number:g}",
        }
        return given[self.name]


@dataclass(frozen=True)
class Points:
    """The best set of each size, as rules read them."""

    sizes: Ints
    values: Floats
    """float64 (sizes, splits): the score, higher better."""
    nothing: float
    criteria: Mapping[str, Floats]
    """Lower better (adjusted R² with its sign turned)."""
    test_share: float


def place_of(rule: Rule, points: Points) -> int:
    """Which of the points a rule takes; of equals the smallest set.

    Raises
    ------
    UsageError
        When no point can be taken by it.
    """
    return _TAKES[rule.name](rule, points)


def _best(rule: Rule, points: Points) -> int:
    return int(np.argmax(points.values.mean(1)))


def _one_error(rule: Rule, points: Points) -> int:
    return _within(points, lambda error, gain: error)


def _smallest(rule: Rule, points: Points) -> int:
    return _within(points, bound_of)


def _within(points: Points, allowed: Callable[[float, float], float]) -> int:
    """The first that is worse than the best by no more than `allowed(standard error, gain of the best)`."""
    best, means = int(np.argmax(points.values.mean(1))), points.values.mean(1)
    gain = max(float(means[best]) - points.nothing, 0.0)
    for k in range(best):
        d = points.values[best] - points.values[k]
        if d.mean() <= allowed(float(np.nan_to_num(corrected_error(d, points.test_share))), gain):
            return k
    return best


def _share(rule: Rule, points: Points) -> int:
    means, best = points.values.mean(1), _best(rule, points)
    gain = max(float(means[best]) - points.nothing, 0.0)
    return int(np.flatnonzero(means >= points.nothing + rule.number * gain - 1e-12 if gain else means >= means[best])[0])


def _size(rule: Rule, points: Points) -> int:
    result = np.flatnonzero(points.sizes == rule.number)
    if not result.size:
        raise UsageError(f"the search visited no set of {rule.number:.0f} features; sizes are {_listed(points.sizes)}")
    return int(result[0])


def _knee(rule: Rule, points: Points) -> int:
    """Farthest above the straight line between the ends of the curve's rise (Satopää, Albrecht, Irwin and Raghavan, 2011)."""
    best = _best(rule, points)
    x, y = points.sizes[: best + 1].astype(float), points.values.mean(1)[: best + 1]
    if best < 2:
        return best
    span = y[-1] - y[0]
    above = (y - y[0]) / (span if span > 0 else 1.0) - (x - x[0]) / (x[-1] - x[0])
    return int(np.argmax(above))


def _criterion(rule: Rule, points: Points) -> int:
    values = points.criteria[rule.name]
    if np.isnan(values).all():
        what = "adjusted R²" if rule.name == "adjusted_r2" else rule.name.upper()
        more = "" if rule.name == "adjusted_r2" else ", and for logistic with two classes"
        raise UsageError(f"{what} exists for least squares and ridge with a number target{more}")
    return int(np.nanargmin(values))


_TAKES: dict[str, Callable[[Rule, Points], int]] = {
    "smallest": _smallest, "best": _best, "one standard error": _one_error, "knee": _knee, "share": _share, "size": _size,
    **dict.fromkeys(NAMES, _criterion),
}  # fmt: skip


def _listed(sizes: Ints) -> str:
    subset = [str(s) for s in sizes[:12]]
    return ", ".join(subset) + (f" … {sizes[-1]}" if len(sizes) > 12 else "")


@dataclass(frozen=True, repr=False)
class Chosen(Shown):
    """A set that a rule took from a trail."""

    rule: str
    features: tuple[str, ...]
    """In the order of the table."""
    move: int
    seen: float
    seen_se: float
    honest: float
    """Of the searches inside the folds at that size; missing where they were left out."""
    honest_se: float
    cost: float

    def __str__(self) -> str:
        n = len(self.features)
        words = f"{n} feature{'s' * (n != 1)}: {', '.join(self.features)}" if n else "no feature"
        honest = f", CV {in_digits(self.honest)} ± {in_digits(self.honest_se)}" if self.honest == self.honest else ""
        return f"{words} ({self.rule}); search score {in_digits(self.seen)} ± {in_digits(self.seen_se)}{honest}"
