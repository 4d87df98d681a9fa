"""Tail probabilities, from scipy.special (scipy.stats costs three times as long to import).

Intervals of effect sizes by turning the noncentral distributions round.
"""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats

STEPS = 40
CLOSE = 1e-8  # of the chance


def eta_squared_interval(f: Floats, df: Floats, df_within: Floats, level: float = 0.95) -> tuple[Floats, Floats]:
    """Bounds of the share of variation between groups, from one-way F.

    The noncentrality whose F would be exceeded with probability (1 + level) / 2, or (1 - level) / 2, over itself plus
    the rows.  Source: Steiger, 2004.
    """
    f, df, df_within = (np.atleast_1d(np.asarray(x, float)) for x in (f, df, df_within))
    fine = np.isfinite(f) & (df >= 1) & (df_within >= 1)
    rows = df + df_within + 1.0
    out = []
    for chance in (0.5 + level / 2, 0.5 - level / 2):
        nc = np.full(f.shape, np.nan)
        if fine.any():
            nc[fine] = _noncentrality(f[fine], df[fine], df_within[fine], chance)
        out.append(nc / (nc + rows))
    return out[0], out[1]


def _noncentrality(f: Floats, df: Floats, df_within: Floats, chance: float) -> Floats:
    """Noncentrality at which P(F <= f) = chance; 0 where even none gives less."""
    from scipy.special import ncfdtr

    def excess(nc: Floats) -> Floats:
        # The chance falls with the noncentrality. Past the reach of its series the function gives NaN: too far out.
        answer: Floats = np.nan_to_num(ncfdtr(df, df_within, nc, f), nan=0.0) - chance
        return answer

    low, high = np.zeros(f.size), 4.0 * f * df + 40.0
    at_low, at_high = excess(low), excess(high)
    none = at_low <= 0
    out = low
    side = np.zeros(f.size)
    for _ in range(STEPS):  # false position, the end that stays halved (Dowell and Jarratt, 1971)
        with np.errstate(all="ignore"):
            out = (low * at_high - high * at_low) / (at_high - at_low)
        out = np.where((out > low) & (out < high), out, (low + high) / 2.0)
        here = excess(out)
        up = here > 0
        at_high = np.where(up & (side > 0), at_high / 2.0, at_high)
        at_low = np.where(~up & (side < 0), at_low / 2.0, at_low)
        low, at_low = np.where(up, out, low), np.where(up, here, at_low)
        high, at_high = np.where(up, high, out), np.where(up, at_high, here)
        side = np.where(up, 1.0, -1.0)
        if (np.abs(here) < CLOSE).all():
            break
    return np.where(none, 0.0, out)


def cramers_v_interval(x: Floats, df: Floats, rows: Floats, smaller: Floats, level: float = 0.95) -> tuple[Floats, Floats]:
    """Bounds of Cramér's V from chi-square.

    `smaller` is the smaller side of the table less one.  Source: Smithson, 2003.
    """
    from scipy.special import chndtr, chndtrinc

    out = []
    for chance in (0.5 + level / 2, 0.5 - level / 2):
        with np.errstate(all="ignore"):
            nothing = chndtr(x, df, 0.0) <= chance
            nc = np.where(nothing, 0.0, chndtrinc(x, df, chance))
            out.append(np.minimum(np.sqrt(nc / (rows * smaller)), 1.0))
    return out[0], out[1]


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
