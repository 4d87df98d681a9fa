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
