"""Choosing a point of a trail without searching again."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.choices import fits
from chaff.errors import UsageError, nearest
from chaff.methods.search.information_criteria import NAMES
from chaff.methods.search.size_choice import SizeRule, bound_of
from chaff.results.digits import score as in_digits
from chaff.results.score import corrected_error
from chaff.visible import Shown

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
