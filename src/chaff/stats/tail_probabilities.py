"""Tail probabilities, from scipy.special (scipy.stats costs three times as long to import)."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats


def t_two_sided(t: Floats, df: Floats) -> Floats:
    """P(|T| >= |t|), Student's t with df degrees of freedom; NaN where df < 1."""
    from scipy.special import stdtr

    df = np.asarray(df, float)
    with np.errstate(all="ignore"):
        p = 2.0 * stdtr(df, -np.abs(t))
    return np.where(df >= 1, np.minimum(p, 1.0), np.nan)


def t_upper(t: Floats, df: Floats) -> Floats:
    """P(T >= t)."""
    from scipy.special import stdtr

    return np.asarray(stdtr(df, -np.asarray(t, float)))


def f_upper(f: Floats, df1: Floats, df2: Floats) -> Floats:
    """P(F >= f), Fisher's F; 0 at f = infinity; NaN without degrees of freedom."""
    from scipy.special import fdtrc

    f, df1, df2 = (np.asarray(x, float) for x in (f, df1, df2))
    with np.errstate(all="ignore"):
        p = fdtrc(df1, df2, np.where(np.isinf(f), 1.0, f))
    return np.where((df1 >= 1) & (df2 >= 1) & ~np.isnan(f), np.where(np.isinf(f), 0.0, p), np.nan)


def chi_square_upper(x: Floats, df: Floats) -> Floats:
    """P(chi-square >= x); NaN without degrees of freedom."""
    from scipy.special import chdtrc

    with np.errstate(all="ignore"):
        return np.where(np.asarray(df) >= 1, chdtrc(np.asarray(df, float), x), np.nan)


def normal_upper(z: Floats) -> Floats:
    """P(Z >= z), standard normal."""
    from scipy.special import ndtr

    return np.asarray(ndtr(-np.asarray(z, float)))


def t_quantile(share: float, df: float) -> float:
    """The value that Student's t with df degrees of freedom stays under with this probability."""
    from scipy.special import stdtrit

    return float(stdtrit(df, share))


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
