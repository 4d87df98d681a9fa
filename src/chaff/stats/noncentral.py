"""Intervals of effect sizes by turning the noncentral distributions round."""

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
