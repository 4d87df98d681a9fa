"""Differences between groups, from group sums: one-way F with its effect sizes, Welch's F, for all columns at once.

Number against number on bins: the correlation ratio, and whether a straight line is enough.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.stats.tail_probabilities import f_upper
from chaff.stats.tolerances import ROUNDING

FEWEST = 5


@dataclass(frozen=True)
class OneWay:
    """One-way analysis of variance, one entry a column."""

    f: Floats
    """Mean square between over mean square within; infinite when nothing varies within and something between."""
    df_between: Floats
    df_within: Floats
    p: Floats
    eta_squared: Floats
    """Share of the variation between groups; 0..1, too high with many small groups."""
    omega_squared: Floats
    """Eta squared corrected for the number of groups; near 0 without a relation, cut at 0."""


def one_way(counts: Floats, sums: Floats, weights: Floats, total_square: Floats) -> OneWay:
    """One-way F of m columns over g groups.

    Parameters
    ----------
    counts : float64 (m, g)
        Rows of each group where the column is present.
    sums : float64 (m, g)
        Weighted sums of the column in each group, about any shift.
    weights : float64 (m, g)
        Weight of those rows (equal to `counts` without weights; otherwise scaled so that they add up to the rows).
    total_square : float64 (m,)
        Weighted sum of squares about the same shift.

    Notes
    -----
    Source: Fisher, 1925; omega squared: Hays, 1963. Groups without rows do not count.
    """
    with np.errstate(all="ignore"):
        seen = counts > 0
        rows, groups = counts.sum(1), seen.sum(1)
        weight = weights.sum(1)
        grand = sums.sum(1) ** 2 / weight
        between = np.where(seen, sums**2 / np.where(seen, weights, 1.0), 0.0).sum(1) - grand
        total = total_square - grand
        # Sums of this size leave rounding of this order behind: below it there is no variation at all.
        nothing = ROUNDING * total_square
        total = np.where(total <= nothing, 0.0, total)
        between = np.clip(np.where(between <= nothing, 0.0, between), 0.0, total)
        within = np.where(total - between <= nothing, 0.0, total - between)
        df_between, df_within = groups - 1.0, rows - groups
        f = (between / df_between) / (within / df_within)
        f = np.where((within == 0) & (between > 0) & (df_within > 0), np.inf, f)
        f = np.where((total == 0) | (df_between < 1) | (df_within < 1), np.nan, f)
        eta = np.where(np.isnan(f), np.nan, between / total)
        mean_within = within / df_within
        omega = np.clip((between - df_between * mean_within) / (total + mean_within), 0.0, 1.0)
    return OneWay(f, df_between, df_within, f_upper(f, df_between, df_within), eta, np.where(np.isnan(f), np.nan, omega))


@dataclass(frozen=True)
class Welch:
    """Welch's test of equal means without equal variances, one entry a column."""

    f: Floats
    df_between: Floats
    df_within: Floats
    p: Floats


def welch(counts: Floats, sums: Floats, weights: Floats, squares: Floats) -> Welch:
    """Welch's F of m columns over g groups.

    Parameters
    ----------
    counts, sums, weights : float64 (m, g)
        As in `one_way`.
    squares : float64 (m, g)
        Weighted sums of squares of each group about the same shift.

    Notes
    -----
    Groups without rows do not count. NaN where a group has fewer than five rows, whose variance says too little, or no
    spread while others have some: its weight would be infinite. Infinite where no group has any spread and the means differ.
    Source: Welch, 1951.
    """
    with np.errstate(all="ignore"):
        seen = counts > 0
        k = seen.sum(1).astype(float)
        mean = np.where(seen, sums / weights, 0.0)
        inside = squares - np.where(seen, sums * sums / weights, 0.0)
        inside = np.where(inside > ROUNDING * squares, inside, 0.0)  # less is rounding
        variance = inside / weights * counts / (counts - 1.0)
        bad = (seen & ((counts < FEWEST) | (variance <= 0))).any(1)
        load = np.where(seen, counts / variance, 0.0)
        total = load.sum(1)
        centre = (load * mean).sum(1) / total
        between = (load * (mean - centre[:, None]) ** 2).sum(1) / (k - 1)
        lack = np.where(seen, (1.0 - load / total[:, None]) ** 2 / (counts - 1.0), 0.0).sum(1)
        f = between / (1.0 + 2.0 * (k - 2.0) / (k * k - 1.0) * lack)
        df = (k * k - 1.0) / (3.0 * lack)
        spread = np.where(seen, mean, np.nan)
        differ = np.nanmax(np.where(seen, mean, -np.inf), 1) > np.nanmin(np.where(seen, spread, np.inf), 1)
        rigid = (inside.sum(1) == 0) & differ & (k > 1) & (counts.sum(1) > k)
    f = np.where(rigid, np.inf, np.where(bad | (k < 2), np.nan, f))
    df = np.where(np.isnan(f), np.nan, np.where(rigid, counts.sum(1) - k, df))
    return Welch(f, np.where(np.isnan(f), np.nan, k - 1), df, f_upper(f, k - 1, df))


def fisher_score(eta_squared: Floats) -> Floats:
    """Σ n_k (m_k - m)² / Σ n_k s_k², with s_k² the variance over n_k (not n_k - 1): between over within.

    Both conventions are met; with n_k the score is eta² / (1 - eta²) exactly, which is why it is the one here.
    Source: Duda and Hart, 1973.
    """
    with np.errstate(all="ignore"):
        return np.asarray(np.where(eta_squared >= 1.0, np.inf, eta_squared / (1.0 - eta_squared)))


@dataclass(frozen=True)
class BinnedCurve:
    """Of m columns against the target."""

    correlation_ratio: Floats
    """η: square root of the share of the target's variation between the bins; 0..1, cannot fall below |r| by much."""
    omega_squared: Floats
    f: Floats
    """Of the lack of a linear fit: what bins explain beyond a line through the bins' numbers, over what is left within."""
    df: Floats
    df_within: Floats
    p: Floats


def curve(weights: Floats, x_sums: Floats, y_sums: Floats, y_square: Floats) -> BinnedCurve:
    """Correlation ratio of the target on bins of a column, with the F for lack of a linear fit.

    Parameters
    ----------
    weights, x_sums, y_sums : float64 (m, bins)
        Weight of each bin (adding up to the rows), sums of the column and of the target in it, each about any shift.
    y_square : float64 (m,)
        Sum of squares of the target about the same shift.

    Notes
    -----
    The line is the weighted least-squares line through the bins' means, which is the line that the bins can tell from a curve.
    Source: Pearson, 1905 (ratio); Fisher, 1922 (lack of fit).
    """
    between = one_way(weights, y_sums, weights, y_square)
    with np.errstate(all="ignore"):
        seen = weights > 0
        n = weights.sum(1)
        x = np.where(seen, x_sums / weights, 0.0)
        y = np.where(seen, y_sums / weights, 0.0)
        mx, my = x_sums.sum(1) / n, y_sums.sum(1) / n
        dx, dy = x - mx[:, None], y - my[:, None]
        sxx, sxy = (weights * dx * dx).sum(1), (weights * dx * dy).sum(1)
        group, total = (weights * dy * dy).sum(1), y_square - n * my * my
        line = np.where(sxx > 0, sxy * sxy / sxx, 0.0)
        within = total - group
        within = np.where(within > ROUNDING * y_square, within, 0.0)
        df, df_within = seen.sum(1) - 2.0, n - seen.sum(1)
        extra = np.maximum(group - line, 0.0)
        extra = np.where(extra > ROUNDING * y_square, extra, 0.0)
        f = (extra / df) / (within / df_within)
        f = np.where((within == 0) & (extra > 0) & (df_within > 0), np.inf, f)
        f = np.where((df < 1) | (df_within < 1) | (total <= 0), np.nan, f)
    return BinnedCurve(np.sqrt(between.eta_squared), between.omega_squared, f, df, df_within, f_upper(f, df, df_within))
