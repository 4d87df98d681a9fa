"""Shares of times chosen over half-samples: how many accidental picks a threshold allows, and how stable whole sets are.

Shares of hits: an exact interval, and an anytime-valid decision on which side of a limit a share lies.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from chaff.arrays import Flags, Floats


def exact_interval(hits: int, of: int, level: float = 0.95) -> tuple[float, float]:
    """Two-sided interval of a share.  Source: Clopper and Pearson, 1934.

    >>> tuple(round(v, 3) for v in exact_interval(2, 10))
    (0.025, 0.556)
    """
    tail = (1 - level) / 2
    low = 0.0 if hits == 0 else float(scipy.special.betaincinv(hits, of - hits + 1, tail))
    high = 1.0 if hits == of else float(scipy.special.betaincinv(hits + 1, of - hits, 1 - tail))
    return low, high


def log_evidence_above(hits: Floats, of: Floats, limit: float) -> Floats:
    """Log of the evidence that the share of hits is above a limit: the likelihood, averaged evenly over all shares above, against
    that at the limit.

    It is a test martingale (or below one) where the share is the limit or less, so that it ever reaches 1 / level with a chance of
    at most the level, however often one looks. Source: Ville, 1939; Robbins, 1970.

    hits, of : float64, how often and of how many rounds.

    >>> bool(log_evidence_above(np.array([5.0]), np.array([5.0]), 0.5)[0] > np.log(10))
    True
    """
    hits, of = np.asarray(hits, float), np.asarray(of, float)
    misses = of - hits
    with np.errstate(divide="ignore"):
        share_above = np.log(scipy.special.betaincc(hits + 1, misses + 1, limit))
        average = scipy.special.betaln(hits + 1, misses + 1) + share_above - np.log1p(-limit)
    return np.asarray(average - hits * np.log(limit) - misses * np.log1p(-limit))


def log_evidence_below(hits: Floats, of: Floats, limit: float) -> Floats:
    """The same that the share is below a limit."""
    return log_evidence_above(np.asarray(of, float) - np.asarray(hits, float), of, 1.0 - limit)


def share_bounds(hits: float, count: float, level: float = 0.95) -> tuple[float, float]:
    """The shares that `hits` of `count` rows do not contradict; (0, 1) without rows.

    Source: Wilson, 1927.

    >>> low, high = share_bounds(5, 10)
    >>> round(low, 3), round(high, 3)
    (0.237, 0.763)
    """
    from scipy.special import ndtri

    if count <= 0:
        return 0.0, 1.0
    z = float(ndtri(0.5 + level / 2))
    p, spread = hits / count, z * z / count
    middle = (p + spread / 2) / (1 + spread)
    reach = z * float(np.sqrt(max(p * (1 - p), 0.0) / count + spread / (4 * count))) / (1 + spread)
    return min(max(0.0, middle - reach), p), max(min(1.0, middle + reach), p)  # rounding never leaves the share outside


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
    half = float(scipy.special.ndtri(0.5 + level / 2)) * spread
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
