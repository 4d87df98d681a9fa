"""Differences between groups, from group sums: one-way F with its effect sizes, for all columns at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.stats.tails import Floats, f_upper


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
        nothing = 1e-13 * total_square
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
