"""Shares of times chosen over half-samples: how many accidental picks a threshold allows, and how stable whole sets are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import special

from chaff.arrays import Flags, Floats

WIDEST = 1 / np.sqrt(3.0)  # of the mean chance to be picked, for the sharper bound


def accidental_picks(threshold: float, size: float, columns: int, pairs: int) -> tuple[float, float]:
    """(bound over complementary pairs, bound over plain half-samples) on the expected number of columns that are chosen in at least
    `threshold` of the halves although a half picks them no more often than one column in the mean, size / columns.

    NaN where a bound says nothing (threshold of a half or less). Of complementary pairs the one that supposes a unimodal number of
    common picks, where it holds, else the one that supposes nothing. Source: Shah and Samworth, 2013, theorems 1 and 2;
    Meinshausen and Bühlmann, 2010.

    >>> tuple(round(v, 2) for v in accidental_picks(0.75, 5, 50, 50))
    (0.51, 1.0)
    """
    if threshold <= 0.5:
        return float("nan"), float("nan")
    share = size / columns
    plain = share * size / (2 * threshold - 1)
    least = min(0.5 + share**2, 0.5 + 1 / (2 * pairs) + 0.75 * share**2)
    if share > WIDEST or threshold <= least:
        return plain, plain
    if threshold <= 0.75:
        factor = 1 / (2 * (2 * threshold - 1 - 1 / (2 * pairs)))
    else:
        factor = 4 * (1 - threshold + 1 / (2 * pairs)) / (1 + 1 / pairs)
    return min(plain, factor * share * size), plain


@dataclass(frozen=True)
class SetStability:
    """How alike the chosen sets are: 1 all the same, 0 as by chance."""

    value: float
    low: float
    high: float


def set_stability(chosen: Flags, level: float = 0.95) -> SetStability:
    """Stability of whole sets, corrected for what sets of these sizes share by chance, with its interval.

    chosen : bool (times, columns). NaN where every set is empty or full. Source: Nogueira, Sechidis and Brown, 2018.

    >>> set_stability(np.array([[True, False, False], [True, False, False], [True, False, False]])).value
    1.0
    """
    z = chosen.astype(float)
    times, columns = z.shape
    share, sizes = z.mean(0), z.sum(1)
    mean = float(sizes.mean())
    apart = mean / columns * (1 - mean / columns)
    if apart <= 0 or times < 2:
        return SetStability(float("nan"), float("nan"), float("nan"))
    value = 1 - float((times / (times - 1) * share * (1 - share)).mean()) / apart
    each = (z @ share / columns - sizes * mean / columns**2) + value / 2 * (
        2 * mean * sizes / columns**2 - sizes / columns - mean / columns + 1
    )
    each /= apart
    spread = float(np.sqrt(4 / times**2 * ((each - each.mean()) ** 2).sum()))
    half = float(special.ndtri(0.5 + level / 2)) * spread
    return SetStability(value, value - half, value + half)


def in_turn(chosen: Flags, least: float, either: float) -> list[tuple[int, int, float, float]]:
    """Pairs that stand in for each other: (column, column, share of times either was chosen, share both were).

    Each is chosen in a share `least` of the times, one of them in a share `either`, and both together less than half as often as
    if the one did not ask for the other.
    """
    z = chosen.astype(float)
    share, both = z.mean(0), z.T @ z / len(z)
    any_of = share[:, None] + share[None, :] - both
    apart = (both < 0.5 * np.outer(share, share)) & (any_of >= either) & (np.minimum.outer(share, share) >= least)
    pairs = [(int(i), int(j), float(any_of[i, j]), float(both[i, j])) for i, j in zip(*np.nonzero(np.triu(apart, 1)), strict=True)]
    return sorted(pairs, key=lambda p: (-p[2], p[0], p[1]))


def picks_at(share: Floats, threshold: float) -> int:
    """Columns chosen in at least so large a share, a hair of rounding allowed."""
    return int((share >= threshold - 1e-12).sum())
