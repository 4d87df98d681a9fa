"""Number against number on bins: the correlation ratio, and whether a straight line is enough."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.stats.group_differences import one_way
from chaff.stats.tail_probabilities import f_upper
from chaff.stats.tolerances import ROUNDING


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
