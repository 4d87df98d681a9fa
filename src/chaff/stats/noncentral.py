"""Intervals of effect sizes by turning the noncentral distributions round."""

from __future__ import annotations

import numpy as np

from chaff.stats.tails import Floats

HALVINGS = 70


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

    low = np.zeros(f.size)
    high = np.maximum(4.0 * f * df, 20.0) + 20.0
    for _ in range(HALVINGS):
        middle = (low + high) / 2.0
        # The chance falls with the noncentrality. Past the reach of its series the function gives NaN: too far out.
        over = ncfdtr(df, df_within, middle, f) > chance
        low, high = np.where(over, middle, low), np.where(over, high, middle)
    out = (low + high) / 2.0
    return np.where(out < 1e-9 * (1.0 + f * df), 0.0, out)


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
