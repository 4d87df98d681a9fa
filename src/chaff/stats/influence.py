"""How much each row moves a statistic, and the interval that this gives: of r, Spearman, Kendall and the area under the curve.

The variance of a statistic is that of its rows' influences over the rows: whatever the data's shape, with the dependence that
rows have where units say so. Bounds are drawn on a scale on which the statistic is nearer to normal.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np

from chaff.arrays import Floats
from chaff.kernels.class_sums import joint_moments
from chaff.kernels.ranks import concordance
from chaff.stats.paired_loss import Units
from chaff.stats.ranks import Ranked, ranked
from chaff.stats.tail_probabilities import t_quantile
from chaff.stats.tolerances import ROUNDING

Scale = Literal["fisher", "logit"]
FEWEST = 5
MANY = 20_000
WIDEST_R = 1.0 - 1e-12
HALF_WIDEST = 18.0  # on Fisher's scale: past it all that can be said is "less than 1"


def of_pearson(x: Floats, y: Floats, r: float, weights: Floats | None = None) -> Floats:
    """Source: Hampel, Ronchetti, Rousseeuw and Stahel, 1986; the variance by fourth moments Isserlis, 1916."""
    a, b = _standard(x, weights), _standard(y, weights)
    return np.asarray(a * b - 0.5 * r * (a * a + b * b))


def _standard(x: Floats, weights: Floats | None) -> Floats:
    off = x - np.average(x, weights=weights)
    return np.asarray(off / np.sqrt(np.average(off * off, weights=weights)))


def pearson_with_bounds(x: Floats, y: Floats, units: Units | None, level: float) -> tuple[float, float, float]:
    """(r, its bounds) of two columns, counting what the rows share; NaN without spread."""
    w = None if units is None else units.weights
    x, y = x - np.average(x, weights=w), y - np.average(y, weights=w)
    squares = np.average(x * x, weights=w) * np.average(y * y, weights=w)
    if not squares > 0:
        return float("nan"), float("nan"), float("nan")
    r = float(np.clip(np.average(x * y, weights=w) / np.sqrt(squares), -1.0, 1.0))
    return r, *(pearson_bounds(x, y, r, level) if units is None else bounds(r, of_pearson(x, y, r, w), units, level))


def pearson_bounds(x: Floats, y: Floats, r: float, level: float) -> tuple[float, float]:
    """Bounds of r whatever the columns' shape: each row left out in turn on Fisher's scale, t with as many degrees of freedom
    as those changes tell of.

    From 20,000 rows on from fourth moments, which then say the same.
    Source: Efron and Stein, 1981; degrees of freedom Satterthwaite, 1946.
    """
    n = x.size
    if n < FEWEST or r != r:
        return float("nan"), float("nan")
    if abs(r) >= 1.0 - ROUNDING:
        return r, r
    if n >= MANY:
        return on_scale(r, float(np.sqrt(_square_mean(x, y, r) / n)), n - 2.0, level)
    a, b = _standard(x, None), _standard(y, None)
    gone = n / (n - 1.0)
    with np.errstate(all="ignore"):
        without = (n * r - gone * a * b) / np.sqrt((n - gone * a * a) * (n - gone * b * b))
    z = np.arctanh(np.clip(without, -WIDEST_R, WIDEST_R))
    d = (z - z.mean()) ** 2
    if not d.sum() > 0:
        return r, r
    se, df = float(np.sqrt((n - 1.0) / n * d.sum())), float(np.clip(2.0 * d.sum() ** 2 / (d * d).sum(), 1.0, n - 2.0))
    return on_scale(r, se * (1.0 - r * r), df, level)


def _square_mean(x: Floats, y: Floats, r: float) -> float:
    """Mean of the squared influences, in one pass."""
    centre = np.array([x.mean(), y.mean()])
    m = np.zeros(8)
    joint_moments(np.ascontiguousarray(x, float), np.ascontiguousarray(y, float), centre, m)
    xx, yy, _, m40, m31, m22, m13, m04 = m / x.size
    sx, sy = np.sqrt(xx), np.sqrt(yy)
    return float(
        m22 / (xx * yy) - r * (m31 / (xx * sx * sy) + m13 / (yy * sx * sy)) + r * r / 4 * (m40 / xx**2 + 2 * m22 / (xx * yy) + m04 / yy**2)
    )


def of_spearman(x: Ranked, y: Ranked, rho: float) -> Floats:
    """A row moves the ranks of the others too.  Source: Borkowf, 2002; Croux and Dehon, 2010."""
    n = x.values.size
    a, b = (2.0 * x.ranks - n - 1.0) / n, (2.0 * y.ranks - n - 1.0) / n
    products = a * b + _mean_of_sign(x, b) + _mean_of_sign(y, a)
    squares = [s * s + 2.0 * _mean_of_sign(z, s) for z, s in ((x, a), (y, b))]
    v, w = float(a @ a) / n, float(b @ b) / n
    c = float(a @ b) / n
    off = products - products.mean()
    lean = 0.5 * c * (_centred(squares[0]) / v + _centred(squares[1]) / w)
    return np.asarray((off - lean) / np.sqrt(v * w))


def _centred(x: Floats) -> Floats:
    return np.asarray(x - x.mean())


def _mean_of_sign(x: Ranked, other: Floats) -> Floats:
    """Mean over the rows j of sign(x_j - x_i) times the other's score of row j, for every row i."""
    n = x.values.size
    groups = x.dense
    sums = np.bincount(groups, other)
    above = np.r_[np.cumsum(sums[::-1])[::-1][1:], 0.0]
    below = np.r_[0.0, np.cumsum(sums)[:-1]]
    return np.asarray((above - below)[groups] / n)


def of_kendall(x: Ranked, y: Ranked, tau: float) -> Floats:
    """From each row's pairs in order less pairs out of order, and the ties of both.  Source: Kendall, 1970; Daniels and Kendall, 1947."""
    n = x.values.size
    surplus = np.empty(n)
    concordance(x.order, x.dense, y.dense, int(y.dense.max(initial=0)) + 1, surplus)
    free_x, free_y = _untied(x), _untied(y)
    c, fx, fy = surplus.mean(), free_x.mean(), free_y.mean()
    scale = np.sqrt(fx * fy)
    if not scale > 0:
        return np.full(n, np.nan)
    lean = 0.5 * tau * ((free_x - fx) / fx + (free_y - fy) / fy)
    return np.asarray(2.0 * ((surplus - c) / scale - lean))


def _untied(x: Ranked) -> Floats:
    counts = np.bincount(x.dense)
    return np.asarray((x.values.size - counts)[x.dense].astype(float))


def of_area(ranks_all: Floats, ranks_own: Floats, inside: np.ndarray) -> Floats:
    """Of the area under the curve of a class against the rest, from ranks among all rows and among rows of the same side.

    Source: DeLong, DeLong and Clarke-Pearson, 1988.
    """
    n1 = int(inside.sum())
    n0 = inside.size - n1
    beaten = np.where(inside, (ranks_all - ranks_own) / n0, 1.0 - (ranks_all - ranks_own) / n1)
    out = np.empty(inside.size)
    for side, size in ((inside, n1), (~inside, n0)):
        out[side] = (beaten[side] - beaten[side].mean()) * inside.size / size
    return out


def bounds(value: float, influence: Floats, units: Units | None, level: float, scale: Scale = "fisher") -> tuple[float, float]:
    """Bounds of a statistic from the influences of the rows; NaN for fewer than five rows or where nothing varies."""
    n = influence.size
    if n < FEWEST or value != value or np.isnan(influence).any():
        return float("nan"), float("nan")
    if units is None:
        se, df = float(np.sqrt((influence**2).mean() / (n - 1.0))), n - 2.0
    else:
        moved = units.mean(influence)
        se, df = moved.se, moved.df
    if not df >= 1:
        return float("nan"), float("nan")
    return on_scale(value, se, df, level, scale)


def rank_bounds(
    value: float,
    x: Ranked,
    y: Ranked,
    of: Callable[[Ranked, Ranked, float], Floats],
    of_sample: Callable[[Ranked, Ranked], float],
    units: Units | None,
    level: float,
) -> tuple[float, float]:
    """Bounds of Spearman's or Kendall's statistic; from 40,000 rows on the spread of the influences is that of every k-th row, which
    tells it to about a per cent."""
    n = x.values.size
    if value != value or not level:
        return float("nan"), float("nan")
    if units is not None or n < 2 * MANY:
        return bounds(value, of(x, y, value), units, level)
    step = n // MANY
    sample_x, sample_y = ranked(x.values[::step]), ranked(y.values[::step])
    about = of_sample(sample_x, sample_y)
    if about != about:
        return float("nan"), float("nan")
    se = float(np.sqrt((of(sample_x, sample_y, about) ** 2).mean() / (n - 1.0)))
    return on_scale(value, se, n - 2.0, level)


def on_scale(value: float, se: float, df: float, level: float, scale: Scale = "fisher") -> tuple[float, float]:
    """Bounds by t on Fisher's z (−1..1) or the logit (0..1)."""
    r = value if scale == "fisher" else 2.0 * value - 1.0
    se = se if scale == "fisher" else 2.0 * se
    if abs(r) >= 1.0:
        return value, value
    z, half = np.arctanh(r), t_quantile(0.5 + level / 2, df) * se / (1.0 - r * r)
    low, high = np.tanh(np.clip([z - half, z + half], -HALF_WIDEST, HALF_WIDEST)).tolist()
    return (low, high) if scale == "fisher" else ((low + 1) / 2, (high + 1) / 2)
