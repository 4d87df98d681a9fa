"""Measures on two-way tables of counts: chi-square, likelihood ratio, exact test, information, Gini."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.kernels.counts import shuffled_sums
from chaff.stats.tail_probabilities import chi_square_upper
from chaff.stats.tolerances import FLAT

SPARSE = 0.2
"""Share of cells with an expected count below five from which chi-square's own distribution is not trusted."""
MOST_TABLES, LEAST_TABLES, TABLES_AT_ONCE, ENOUGH = 4_000, 500, 200, 60
MAX_PERMUTED_ROWS = 40_000_000  # rows that are shuffled in all
FEW_REACHED = 10  # shuffles that reach the value, under which their share says little
TAIL_SHARE, TAIL_ROWS = 0.05, 40  # of the shuffles, that the tail is read from


def mutual_information(counts: Floats, rows: Floats | None = None) -> Floats:
    """Mutual information in nats of each table of counts, Miller-Madow corrected, cut at 0.

    Parameters
    ----------
    counts : float64 (m, a, b)
        Weighted counts.
    rows : float64 (m,), optional
        Rows behind each table, for the correction; the sum of the counts when left out.

    Notes
    -----
    The plug-in estimate is too high by about (cells - rows - columns + 1) / (2 n), counting those in use.
    Source: Miller, 1955.
    """
    n = counts.sum((1, 2))
    a, b = counts.sum(2), counts.sum(1)
    with np.errstate(all="ignore"):
        expected = a[:, :, None] * b[:, None, :] / n[:, None, None]
        terms = np.where(counts > 0, counts * np.log(counts / expected), 0.0)
        plain = terms.sum((1, 2)) / n
        used = (counts > 0).sum((1, 2)) - (a > 0).sum(1) - (b > 0).sum(1) + 1
        corrected = plain - used / (2.0 * (n if rows is None else rows))
    return np.where(n > 0, np.maximum(corrected, 0.0), np.nan)


@dataclass(frozen=True)
class ChiSquare:
    """Pearson's test of independence, one entry a table."""

    chi_square: Floats
    df: Floats
    p: Floats
    cramers_v: Floats
    """Bias-corrected; 0..1."""
    sparse_share: Floats
    """Share of the cells with an expected count below 5: past 0.2 the p-value is rough."""


def chi_square(counts: Floats) -> ChiSquare:
    """Pearson chi-square of each table of counts, with bias-corrected Cramer's V; empty rows and columns do not count.

    Parameters
    ----------
    counts : float64 (m, a, b)

    Notes
    -----
    Source: Pearson, 1900; V: Bergsma, 2013.
    """
    n = counts.sum((1, 2))
    a, b = counts.sum(2), counts.sum(1)
    with np.errstate(all="ignore"):
        expected = a[:, :, None] * b[:, None, :] / n[:, None, None]
        live = expected > 0
        x = np.where(live, (counts - expected) ** 2 / np.where(live, expected, 1.0), 0.0).sum((1, 2))
        r, c = (a > 0).sum(1).astype(float), (b > 0).sum(1).astype(float)
        df = (r - 1) * (c - 1)
        phi = np.maximum(0.0, x / n - df / (n - 1))
        r_hat, c_hat = r - (r - 1) ** 2 / (n - 1), c - (c - 1) ** 2 / (n - 1)
        v = np.sqrt(np.minimum(phi / np.minimum(r_hat - 1, c_hat - 1), 1.0))
        sparse = (live & (expected < 5)).sum((1, 2)) / np.maximum(live.sum((1, 2)), 1)
    fine = (df >= 1) & (n > 1)
    return ChiSquare(np.where(fine, x, np.nan), df, chi_square_upper(np.where(fine, x, np.nan), df), np.where(fine, v, np.nan), sparse)


def shuffled_chi_square_p(counts: Floats, seed: int) -> tuple[float, bool]:
    """(p of chi-square as shuffled rows would give it, whether it is only bounded from above); for a table (a, b) of whole counts.

    Shuffles end when enough of them reach the value. Where hardly any does, the tail beyond the last few hundredths of them is bounded
    by an exponential one: the hazard of such sums does not fall, so that it lies above, also by the wider end of its estimated mean.

    Source: Fisher, 1935; sequential Besag and Clifford, 1991; excesses over a threshold Pickands, 1975.
    """
    counts = counts[counts.sum(1) > 0][:, counts.sum(0) > 0]
    levels, classes = counts.sum(1).astype(np.int64), counts.sum(0).astype(np.int64)
    value = float((counts**2 / np.outer(levels, classes)).sum()) * (1.0 - 1e-12)
    shuffled, ends, load = np.repeat(np.arange(classes.size), classes), np.cumsum(levels), 1.0 / classes
    most = int(np.clip(MAX_PERMUTED_ROWS // max(shuffled.size, 1), LEAST_TABLES, MOST_TABLES))
    sums: list[Floats] = []
    drawn, reached = 0, 0
    while drawn < most and reached < ENOUGH:
        out = np.empty(min(TABLES_AT_ONCE, most - drawn))
        shuffled_sums(shuffled, ends, load, seed + drawn, np.zeros(classes.size, np.int64), out)
        sums.append(out)
        drawn, reached = drawn + out.size, reached + int((out >= value).sum())
    p = (1.0 + reached) / (1.0 + drawn)
    if reached >= FEW_REACHED:
        return p, False
    return min(p, tail_bound(np.sort(np.concatenate(sums))[::-1], value)), True


def tail_bound(drawn: Floats, value: float) -> float:
    """How often at most a value is reached that lies beyond draws, float64 descending: see `shuffled_chi_square_p`."""
    k = max(TAIL_ROWS, int(TAIL_SHARE * drawn.size))
    excess = float((drawn[:k] - drawn[k]).mean()) * (1.0 + 2.0 / np.sqrt(k))
    return k / drawn.size * float(np.exp(-max(value - drawn[k], 0.0) / excess)) if excess > 0 else 1.0


def likelihood_ratio(counts: Floats) -> tuple[Floats, Floats, Floats]:
    """(G, degrees of freedom, p) of each table of counts (m, a, b).  Source: Wilks, 1935."""
    n = counts.sum((1, 2))
    a, b = counts.sum(2), counts.sum(1)
    with np.errstate(all="ignore"):
        expected = a[:, :, None] * b[:, None, :] / n[:, None, None]
        g = 2.0 * np.where(counts > 0, counts * np.log(counts / expected), 0.0).sum((1, 2))
    df = ((a > 0).sum(1) - 1.0) * ((b > 0).sum(1) - 1.0)
    g = np.where((df >= 1) & (n > 1), np.maximum(g, 0.0), np.nan)
    return g, df, chi_square_upper(g, df)


def pool_rare(counts: Floats, least: float = 5.0) -> Floats:
    """A table (a, b) with the rows whose smallest expected count is below `least` added up into one.

    Where that one would still be too small the next rarest row joins it; two rows always stay.
    """
    total = counts.sum()
    if total <= 0:
        return counts
    counts = counts[counts.sum(1) > 0]
    expected = counts.sum(1) * (counts.sum(0)[counts.sum(0) > 0].min() / total)
    order = np.argsort(expected, kind="stable")
    pooled = int((expected < least).sum())
    if not pooled:
        return counts
    while pooled < len(order) and (pooled < 2 or expected[order[:pooled]].sum() < least):
        pooled += 1
    pooled = min(pooled, len(order) - 1)
    rare = np.isin(np.arange(len(order)), order[:pooled])
    return np.vstack([counts[~rare], counts[rare].sum(0)])


def exact_two_by_two(table: Floats) -> float:
    """Two-sided p of Fisher's exact test: the tables with the same margins that are no likelier, added up.

    Parameters
    ----------
    table : float64 (2, 2), whole counts

    Notes
    -----
    Source: Fisher, 1934.

    >>> round(exact_two_by_two(np.array([[3.0, 1.0], [1.0, 3.0]])), 4)
    0.4857
    """
    from scipy.special import gammaln

    row, column, n = table[0].sum(), table[:, 0].sum(), table.sum()
    if min(row, column, n - row, n - column) <= 0:
        return float("nan")
    cells = np.arange(max(0.0, row + column - n), min(row, column) + 1)

    def choose(top: float, bottom: Floats) -> Floats:
        return np.asarray(gammaln(top + 1) - gammaln(bottom + 1) - gammaln(top - bottom + 1))

    log_p = choose(column, cells) + choose(n - column, row - cells)
    log_p -= choose(n, np.array(row))
    here = log_p[int(table[0, 0] - cells[0])]
    return float(min(np.exp(log_p[log_p <= here + 1e-7]).sum(), 1.0))


@dataclass(frozen=True)
class Gains:
    """What a column's levels or bins tell of the classes, one entry a table; plain estimates, without correction."""

    information_gain: Floats
    """Bits."""
    gain_ratio: Floats
    """Information gain over the column's own entropy; NaN for a column of one level."""
    gini_gain: Floats
    """Fall of the Gini impurity."""


def gains(counts: Floats) -> Gains:
    """Information gain, gain ratio and Gini gain of each table (m, levels, classes).

    Source: Quinlan, 1986 and 1993; Breiman, Friedman, Olshen and Stone, 1984.
    """
    n = counts.sum((1, 2))
    with np.errstate(all="ignore"):
        levels, classes = counts.sum(2) / n[:, None], counts.sum(1) / n[:, None]
        both = counts / n[:, None, None]
        own, target, joint = (_entropy(x.reshape(len(x), -1)) for x in (levels, classes, both))
        gain = np.maximum(own + target - joint, 0.0)
        within = np.where(levels > 0, (both**2).sum(2) / levels, 0.0).sum(1)
        gini = np.maximum(within - (classes**2).sum(1), 0.0)
        ratio = np.where(own > FLAT, gain / own, np.nan)
    known = n > 0
    return Gains(*(np.where(known, x, np.nan) for x in (gain, ratio, gini)))


def _entropy(shares: Floats) -> Floats:
    """Bits."""
    answer: Floats = -np.where(shares > 0, shares * np.log2(np.where(shares > 0, shares, 1.0)), 0.0).sum(1)
    return answer
