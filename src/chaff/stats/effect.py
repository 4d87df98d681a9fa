"""One scale for how much a feature and the target have to do with each other, whatever the test: that of |r|."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats

CHANCE = 0.99
TINY = 1e-12


def on_the_scale_of_r(share: Floats, df: Floats, rows: Floats) -> Floats:
    """A share of variation (r², η², that of ranks) that a test with some degrees of freedom found, as |r|.

    With one degree of freedom it is the square root. With more, chance alone gives more: the share is brought down by as much
    as the 99 % point of chance is higher than with one, and below that point to the r with the same p-value. So noise looks
    alike at any number of levels, and a strong relation keeps its size.

    Source: Fisher, 1925 (distribution); equal p-values Rosenthal and Rubin, 2003.
    """
    from scipy.special import betainc, betaincc, betainccinv

    share, df, rows = (np.asarray(x, float) for x in np.broadcast_arrays(share, df, rows))
    with np.errstate(all="ignore"):
        a, b, b_one = df / 2, (rows - df - 1) / 2, (rows - 2) / 2
        able = (df >= 1) & (b > 0) & ~np.isnan(share)
        a, b = np.where(able, a, 1.0), np.where(able, b, 1.0)
        b_one = np.where(able, np.maximum(b_one, 0.5), 1.0)
        more = betainccinv(a, b, 1 - CHANCE) - betainccinv(0.5, b_one, 1 - CHANCE)
        linear = (share - more) / (1.0 - more)
        p = betaincc(a, b, np.clip(share, 0.0, 1.0))
        alike = np.where(p > TINY, betainccinv(0.5, b_one, np.maximum(p, TINY)), 0.0)
        alike = np.where(betainc(a, b, np.clip(share, 0.0, 1.0)) <= 0, 0.0, alike)
    out = np.where(df == 1, share, np.maximum(linear, alike))
    return np.where(able, np.sqrt(np.clip(out, 0.0, 1.0)), np.nan)


def of_counts(chi_square: Floats, df: Floats, rows: Floats, smaller: Floats) -> Floats:
    """Chi-square as a Cramér's V that noise gives the same values at any number of cells.

    `smaller` : the smaller side of the table less one.  The same way: the 99 % point of chance, equal p below it.
    """
    from scipy.special import chdtrc, chdtri

    x, df, rows, smaller = (np.asarray(v, float) for v in np.broadcast_arrays(chi_square, df, rows, smaller))
    with np.errstate(all="ignore"):
        able = (df >= 1) & (rows > 1) & (smaller >= 1) & ~np.isnan(x)
        k = np.where(able, df, 1.0)
        # The scale of V²: all that one direction of a table can hold is `rows`.
        more = (chdtri(k, 1 - CHANCE) / smaller - chdtri(1.0, 1 - CHANCE)) / rows
        linear = (x / smaller / rows - more) / (1.0 - more)
        p = chdtrc(k, np.where(able, x, 0.0))
        alike = np.where(p > TINY, chdtri(1.0, np.maximum(p, TINY)) / rows, 0.0)
    out = np.where((df == 1) & (smaller == 1), x / rows, np.maximum(linear, alike))
    return np.where(able, np.sqrt(np.clip(out, 0.0, 1.0)), np.nan)
