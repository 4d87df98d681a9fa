"""Is one loss smaller than another, row by row? Mean differences with the error that groups and order deserve, and the three
answers of the keep-up test.

A metric of all rows together, with its error: from the loss of each row, to first order.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.stats.tail_probabilities import t_quantile, t_upper
from chaff.visible import Shown

Answer = Literal["keeps up", "worse", "cannot tell"]
LEVEL = 0.05
COSINES = 0.3  # times n^(2/3): how many cosines the long-run variance is read from


@dataclass(frozen=True)
class MeanDifference:
    """A weighted mean over rows, with its standard error and the t distribution that belongs to it."""

    mean: float
    se: float
    df: float
    units: int
    """What was counted: rows, groups, or moments in time."""

    def upper(self, level: float = LEVEL) -> float:
        """One-sided upper bound of the mean."""
        return self.mean + t_quantile(1 - level, self.df) * self.se if self.df > 0 else float("inf")

    def lower(self, level: float = LEVEL) -> float:
        return self.mean - t_quantile(1 - level, self.df) * self.se if self.df > 0 else float("-inf")

    def p_above(self, limit: float = 0.0) -> float:
        """One-sided p of mean <= limit."""
        if not self.se > 0:
            return 0.0 if self.mean > limit and self.df > 0 else 1.0
        return float(t_upper(np.array((self.mean - limit) / self.se), np.array(self.df))) if self.df > 0 else 1.0


def mean_difference(
    d: Floats, weights: Floats | None = None, groups: Ints | None = None, order: Floats | None = None, inflation: float = 1.0
) -> MeanDifference:
    """The mean of differences of losses, each row's once (repeats averaged before).

    Parameters
    ----------
    d : float64 (n,)
    weights : float64 (n,), optional
    groups : int64 (n,), optional
        Rows of one group are no independent witnesses: sums over groups are (Liang and Zeger, 1986).
    order : float64 (n,), optional
        Moments in time: long-run variance by equally weighted cosines, t with as many degrees of freedom (Lazarus, Lewis,
        Stock and Watson, 2018), in the test of Diebold and Mariano (1995). Beats groups.
    inflation : float
        The error is multiplied by it, for losses from models that share training rows.
    """
    n = d.size
    w = np.ones(n) if weights is None else np.asarray(weights, float)
    total = float(w.sum())
    if n == 0 or total <= 0:
        return MeanDifference(float("nan"), float("nan"), 0.0, 0)
    mean = float((w * d).sum() / total)
    off = w * (d - mean)
    if order is not None:
        variance, df, units = _long_run(off[np.argsort(order, kind="stable")])
    else:
        codes = np.arange(n) if groups is None else np.unique(groups, return_inverse=True)[1]
        sums = np.bincount(codes, off)
        units = int(sums.size)
        df = units - 1.0
        variance = float((sums**2).sum()) * units / max(df, 1.0)
    return MeanDifference(mean, inflation * float(np.sqrt(variance)) / total, df, units)


def _long_run(off: Floats) -> tuple[float, float, int]:
    """(variance of the sum of a centred series, degrees of freedom, length)."""
    from scipy.fft import dct

    n = off.size
    count = int(max(1, min(np.floor(COSINES * n ** (2 / 3)), n - 1)))
    parts = dct(off, norm="ortho")[1 : count + 1]  # √(2/n) Σ off cos(πk(i + ½)/n), all of them at once
    return float(n * (parts**2).mean()), float(count), n


@dataclass(frozen=True, repr=False)
class KeepUp(Shown):
    """Loss of the kept set less loss of the full one, against an allowance that was set beforehand."""

    answer: Answer
    difference: MeanDifference
    allowance: float
    """δ, in the loss's units: 5 % of what the full set gains over knowing nothing."""
    rows_to_tell: int | None
    """With "cannot tell": roughly how many rows would, were the difference as it looks; None where none would."""

    def __str__(self) -> str:
        return f"{self.answer}: loss {self.difference.mean:+.3g} ± {self.difference.se:.2g} (SE), allowance {self.allowance:.3g}"


def judge_keep_up(
    difference: MeanDifference,
    allowance: float,
    rows: int,
    spread: float = 0.0,
    level: float = LEVEL,
    contrast: MeanDifference | None = None,
) -> KeepUp:
    """H0: kept less full >= allowance. Rejected: keeps up. Otherwise worse where the difference is surely over 0.

    Parameters
    ----------
    contrast : MeanDifference, optional
        Of (kept less full) less the allowance, row by row, where the allowance is estimated from the same rows: its error is the one
        that counts then. Left out for an allowance that is given.
    spread : float
        The standard error there would be were the difference as large as the allowance. A sample that happens to show a small
        difference shows a small error with it, and a test with that error would reject three times as often as it says.
    """
    error = difference.se if contrast is None else contrast.se
    at_least = MeanDifference(difference.mean, max(error, spread), difference.df, difference.units)
    if difference.df > 0 and (at_least.upper(level) < allowance or (difference.se == 0 and difference.mean <= allowance)):
        return KeepUp("keeps up", difference, allowance, None)
    if difference.df > 0 and difference.lower(level) > 0:
        return KeepUp("worse", difference, allowance, None)
    return KeepUp("cannot tell", difference, allowance, _rows_to_tell(at_least, allowance, rows, level))


def spread_at(allowance: float, curvature: float, rows: int, design_effect: float) -> float:
    """Standard error of a mean difference of losses that is as large as the allowance.

    Parameters
    ----------
    curvature : float
        Variance of a row's difference over the difference: 4 times the residual variance for squared errors, 2 for log losses
        (a log likelihood ratio's variance is twice its mean, to first order).
    design_effect : float
        Variance of the mean with groups or order over the one with independent rows.
    """
    return float(np.sqrt(max(curvature * allowance, 0.0) / max(rows, 1) * max(design_effect, 1.0)))


def _rows_to_tell(difference: MeanDifference, allowance: float, rows: int, level: float) -> int | None:
    room = allowance - difference.mean
    if not (difference.se > 0 and difference.df > 0):
        return None
    reach = t_quantile(1 - level, max(difference.df, 10.0)) * difference.se
    away = room if room > 0 else difference.mean  # short of the allowance: enough rows to say keeps up, else to say worse
    return int(np.ceil(rows * (reach / away) ** 2)) if away > 0 else None


OfLosses = Callable[[float, float, float], float]


@dataclass(frozen=True)
class Units:
    """What belongs to the rows whose losses are pooled."""

    weights: Floats | None = None
    groups: Ints | None = None
    order: Floats | None = None

    def take(self, rows: Ints) -> Units:
        w, g, o = self.weights, self.groups, self.order
        return Units(None if w is None else w[rows], None if g is None else g[rows], None if o is None else o[rows])

    def mean(self, d: Floats, inflation: float = 1.0) -> MeanDifference:
        return mean_difference(d, self.weights, self.groups, self.order, inflation)


@dataclass(frozen=True)
class Pooled:
    """One score of some rows."""

    score: float
    se: float
    df: float
    slope: float
    """Change of the score for a unit of mean loss."""


def pooled(of_losses: OfLosses, loss: Floats, none: Floats, units: Units, inflation: float = 1.0) -> Pooled:
    """The score from the losses of rows (n,) and what knowing nothing loses on them, by the delta method."""
    w = np.ones(loss.size) if units.weights is None else units.weights
    total = float(w.sum())
    if not loss.size or total <= 0:
        return Pooled(float("nan"), float("nan"), 0.0, float("nan"))
    a, b = float((w * loss).sum() / total), float((w * none).sum() / total)

    def at(x: float, y: float) -> float:
        return of_losses(x * total, y * total, total)

    step_a, step_b = 1e-6 * max(abs(a), 1e-12), 1e-6 * max(abs(b), 1e-12)
    slope_a = (at(a + step_a, b) - at(a - step_a, b)) / (2 * step_a)
    slope_b = (at(a, b + step_b) - at(a, b - step_b)) / (2 * step_b)
    d = units.mean(slope_a * (loss - a) + slope_b * (none - b), inflation)
    return Pooled(at(a, b), d.se, d.df, slope_a)
