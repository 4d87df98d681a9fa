"""Statistics of ranks: rank sums of two groups, Spearman, Kendall, Kruskal-Wallis, ROC AUC and Kolmogorov-Smirnov."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
import numpy.typing as npt

from chaff.arrays import Flags, Floats, Ints
from chaff.kernels.ranks import class_walk, in_order_of, inversions, ranks_from_order
from chaff.stats.correlation import correlation_p
from chaff.stats.tail_probabilities import chi_square_upper, normal_upper

FEW = 20  # rows of a class, under which their spread is too rough an estimate
HALVINGS = 60


def few_rows_bounds(auc: Floats, own: Floats, rest: Floats, level: float) -> tuple[Floats, Floats]:
    """The areas that lie just so far from the one observed, by the variance that each would have; NaN under two rows a side.

    Source: Newcombe, 2006, method 5 (variance Hanley and McNeil, 1982).

    >>> low, high = few_rows_bounds(np.array([1.0]), np.array([6.0]), np.array([9.0]), 0.95)
    >>> bool(0.6 < low[0] < 0.9), float(high[0])
    (True, 1.0)
    """
    able = (own > 1) & (rest > 1) & ~np.isnan(auc)
    low = _side(auc, own, rest, level, able)
    high = 1.0 - _side(1.0 - auc, own, rest, level, able)
    return np.where(able, low, np.nan), np.where(able, high, np.nan)


def _side(auc: Floats, own: Floats, rest: Floats, level: float, able: Flags) -> Floats:
    from scipy.special import ndtri

    z, middle = ndtri(0.5 + level / 2), (own + rest) / 2.0
    auc = np.where(able, auc, 0.5)
    least = np.where(able, (own - 1.0) * (rest - 1.0), 1.0)
    low, high = np.zeros(auc.shape), np.maximum(auc - 1e-12, 0.0)
    for _ in range(HALVINGS):
        at = (low + high) / 2.0
        variance = at * (1.0 - at) * (2.0 * middle - 1.0 - (3.0 * middle - 3.0) / ((2.0 - at) * (1.0 + at))) / least
        far = auc - at > z * np.sqrt(np.maximum(variance, 0.0))
        low, high = np.where(far, at, low), np.where(far, high, at)
    return (low + high) / 2.0


FEWEST_SPEARMAN, EXACT_SPEARMAN = 4, 9
HALF_A_STEP = 0.1  # sums of products of centred ranks lie a quarter apart at least
EXACT_KENDALL = 33  # up to so many rows without ties the distribution of inversions is counted out


def average_ranks(values: Floats) -> Floats:
    """Ranks 1..n, ties at their mean."""
    _, place, counts = np.unique(values, return_inverse=True, return_counts=True)
    last = np.cumsum(counts)
    return ((last - counts + 1 + last) / 2.0)[place]


@dataclass(frozen=True)
class RankSum:
    z: Floats
    p: Floats
    """Two-sided, normal approximation with ties."""
    cliffs_delta: Floats
    """P(inside > outside) - P(inside < outside); -1..1."""


def rank_sum(values: Floats, inside: Iterable[Flags]) -> RankSum:
    """Wilcoxon rank-sum of `values` (n,) between the rows inside and outside each of m groupings, (n,) each.

    Source: Mann and Whitney, 1947; effect size: Cliff, 1993.
    """
    n = values.size
    ranks = average_ranks(values)
    n1, sums = np.array([(f.sum(), ranks[f].sum()) for f in inside], float).reshape(-1, 2).T
    n0 = n - n1
    with np.errstate(all="ignore"):
        u = sums - n1 * (n1 + 1) / 2
        # The variance of the ranks as they are holds the correction for ties.
        variance = n1 * n0 / (n * (n - 1.0)) * ((ranks - (n + 1) / 2) ** 2).sum()
        off = np.maximum(np.abs(u - n1 * n0 / 2) - 0.5, 0.0)
        z = np.sign(u - n1 * n0 / 2) * off / np.sqrt(variance)
        p = np.minimum(2.0 * normal_upper(np.abs(z)), 1.0)
        delta = 2.0 * u / (n1 * n0) - 1.0
    return RankSum(z, p, delta)


@dataclass(frozen=True)
class Ranked:
    """A column without gaps, sorted once; every rank statistic of it starts here."""

    values: Floats
    order: Ints

    @cached_property
    def _numbered(self) -> tuple[Floats, npt.NDArray[np.int32], float, float]:
        ranks, dense = np.empty(self.values.size), np.empty(self.values.size, np.int32)
        return ranks, dense, *ranks_from_order(self.values, self.order, ranks, dense)

    @property
    def ranks(self) -> Floats:
        """1..n, ties at their mean."""
        return self._numbered[0]

    @property
    def dense(self) -> npt.NDArray[np.int32]:
        """0, 1, …, ties sharing one."""
        return self._numbered[1]

    @property
    def twos(self) -> float:
        """Σ t (t - 1) over the groups of t tied values."""
        return self._numbered[2]

    @property
    def threes(self) -> float:
        """Σ t (t - 1) (t - 2)."""
        return self._numbered[3]


def ranked(values: Floats, order: Ints | None = None) -> Ranked:
    """Sort a column without gaps; `order` when it is known already."""
    return Ranked(values, np.argsort(values) if order is None else order)


def spearman(x: Ranked, y: Ranked) -> float:
    """Spearman's rho, the Pearson correlation of average ranks; NaN without spread.  Source: Spearman, 1904."""
    n = x.values.size
    middle = (n + 1) / 2.0
    a, b = x.ranks - middle, y.ranks - middle
    scale = float(np.sqrt((a @ a) * (b @ b)))
    return float(np.clip((a @ b) / scale, -1.0, 1.0)) if scale > 0 else float("nan")


def spearman_p(x: Ranked, y: Ranked, rho: float) -> float:
    """Two-sided p of Spearman's rho: over all orders of up to nine rows, by t for more; NaN under four, where nothing can be told.

    Source: Kendall, 1948; t: Pitman, 1937.
    """
    n = x.values.size
    if n < FEWEST_SPEARMAN or rho != rho:
        return float("nan")
    if n > EXACT_SPEARMAN:
        return float(correlation_p(np.array(rho), np.array(float(n))))
    middle = (n + 1) / 2.0
    a, b = x.ranks - middle, y.ranks - middle
    reached = np.abs(_orders(n, b) @ a)
    return float((reached >= abs(float(a @ b)) - HALF_A_STEP).mean())


def _orders(n: int, b: Floats) -> Floats:
    return np.asarray(b[_permutations(n)])


@lru_cache(maxsize=EXACT_SPEARMAN)
def _permutations(n: int) -> npt.NDArray[np.int8]:
    """(n!, n)"""
    out = np.zeros((1, 1), np.int8)
    for size in range(1, n):  # the new last one goes into every place
        out = np.vstack([np.insert(out, place, size, axis=1) for place in range(size + 1)])
    return out


def kendall(x: Ranked, y: Ranked) -> tuple[float, float]:
    """(tau-b, two-sided p). n log n by counting inversions while merging.

    p by the normal approximation with its variance under ties; counted out exactly up to 33 rows without ties.
    Source: Kendall, 1945 and 1970; Knight, 1966.
    """
    n = x.values.size
    if n < 2:
        return float("nan"), float("nan")
    a, b = np.empty(n, np.int32), np.empty(n, np.int32)
    joint, twos, threes = in_order_of(x.values, x.order, y.dense, a)
    discordant = float(inversions(a, b))
    pairs = n * (n - 1.0) / 2.0
    free_x, free_y = pairs - twos / 2.0, pairs - y.twos / 2.0
    if free_x <= 0 or free_y <= 0:
        return float("nan"), float("nan")
    surplus = pairs - twos / 2.0 - y.twos / 2.0 + joint / 2.0 - 2.0 * discordant
    tau = surplus / np.sqrt(free_x) / np.sqrt(free_y)
    if n <= EXACT_KENDALL and twos == 0 and y.twos == 0:
        return float(tau), _kendall_exact(n, int(discordant))
    fives = [2.0 * b3 + 9.0 * b2 for b2, b3 in ((twos, threes), (y.twos, y.threes))]  # Σ t (t - 1) (2 t + 5)
    variance = (n * (n - 1.0) * (2.0 * n + 5.0) - fives[0] - fives[1]) / 18.0
    variance += twos * y.twos / (2.0 * n * (n - 1.0))
    if n > 2:
        variance += threes * y.threes / (9.0 * n * (n - 1.0) * (n - 2.0))
    p = 2.0 * normal_upper(np.abs(surplus) / np.sqrt(variance)) if variance > 0 else float("nan")
    return float(np.clip(tau, -1.0, 1.0)), float(np.minimum(p, 1.0))


def _kendall_exact(n: int, discordant: int) -> float:
    """Two-sided p from the number of orders of n rows that have so few inversions."""
    few = min(discordant, n * (n - 1) // 2 - discordant)
    ways = np.zeros(few + 1)
    ways[0] = 1.0
    for size in range(2, n + 1):  # one more row adds 0..size-1 inversions, each equally likely
        total = np.cumsum(ways)
        total[size:] -= np.cumsum(ways)[: max(few + 1 - size, 0)]
        ways = total / size
    return float(min(2.0 * ways.sum(), 1.0))


@dataclass(frozen=True)
class RankTest:
    """Rank statistics of one column between K classes."""

    h: float
    """Kruskal-Wallis, corrected for ties."""
    df: float
    p: float
    auc: Floats
    """P(a row of the class is higher than one of the others), ties half; one entry a class."""
    auc_low: Floats
    auc_high: Floats
    auc_p: Floats
    """Two-sided Mann-Whitney, normal approximation with ties; NaN with weights."""
    ks: float
    """Largest gap between the distribution functions; two classes only, NaN otherwise."""
    ks_p: float
    """Kolmogorov's limit; NaN with weights."""


def rank_test(values: Floats, classes: Ints, count: int, weights: Floats | None = None, level: float | None = 0.95) -> RankTest:
    """Kruskal-Wallis H, one-against-rest ROC AUC and Kolmogorov-Smirnov of a column without gaps.

    Source: Kruskal and Wallis, 1952; Mann and Whitney, 1947; interval on the logit scale with the variance of DeLong,
    DeLong and Clarke-Pearson, 1988, under 20 rows of a class Newcombe's method 5, 2006; Smirnov, 1939.
    """
    out = np.zeros((count, 5))
    values, order = np.ascontiguousarray(values, float), np.argsort(values)
    w = np.empty(0) if weights is None else np.ascontiguousarray(weights, float)
    twos, threes, gap = class_walk(values, order, np.ascontiguousarray(classes, np.int64), w, np.empty(count), np.empty(count), out)
    n = out[:, 0].sum()  # of NumPy: a single row has no answer, and is no error
    own, seen = out[:, 0], out[:, 0] > 0
    k = int(seen.sum())
    with np.errstate(all="ignore"):
        rest = n - own
        auc = np.where(seen & (rest > 0), out[:, 2] / (own * rest), np.nan)
        spread = 1.0 - (threes + 3.0 * twos) / (n**3 - n)
        if weights is None:
            h = 12.0 / (n * (n + 1)) * np.where(seen, (out[:, 1] - own * (n + 1) / 2) ** 2 / own, 0.0).sum() / spread
            z = (np.abs(out[:, 2] - own * rest / 2)) / np.sqrt(own * rest * (n + 1) / 12.0 * spread)
            auc_p = np.minimum(2.0 * normal_upper(z), 1.0)
        else:
            h, auc_p = np.nan, np.full(count, np.nan)
        low, high = _delong(auc, own, rest, out, level) if weights is None and level else (auc * np.nan, auc * np.nan)
        effective = own[0] * own[1] / n if count > 1 else np.nan
    fine = k > 1 and spread > 0
    two = count == 2 and k == 2
    ks_p = _kolmogorov(np.sqrt(effective) * gap) if two and weights is None else float("nan")
    df = float(k - 1)
    p = float(chi_square_upper(np.array(h), np.array(df))) if fine else float("nan")
    nan = np.full(count, np.nan)
    return RankTest(
        float(h) if fine else float("nan"),
        df,
        p,
        auc,
        low if fine else nan,
        high if fine else nan,
        np.asarray(auc_p) if fine else nan,
        float(gap) if two else float("nan"),
        ks_p,
    )


def _delong(auc: Floats, own: Floats, rest: Floats, out: Floats, level: float) -> tuple[Floats, Floats]:
    """Interval on the logit scale; by the rows' number alone where a side has few or the classes do not overlap."""
    from scipy.special import ndtri

    over = (out[:, 3] / rest**2 - own * auc**2) / (own - 1.0) / own
    under = (out[:, 4] / own**2 - rest * (1.0 - auc) ** 2) / (rest - 1.0) / rest
    # What the rows of the rest see is the weight of the class *below* them: 1 - auc on average.
    se = np.sqrt(np.maximum(over, 0.0) + np.maximum(under, 0.0))
    logit = np.log(auc / (1.0 - auc))
    half = ndtri(0.5 + level / 2) * se / (auc * (1.0 - auc))
    fine = (own >= FEW) & (rest >= FEW) & (auc > 0) & (auc < 1)
    low, high = 1.0 / (1.0 + np.exp(half - logit)), 1.0 / (1.0 + np.exp(-half - logit))
    few_low, few_high = few_rows_bounds(auc, own, rest, level)
    return np.where(fine, low, few_low), np.where(fine, high, few_high)


def _kolmogorov(x: float) -> float:
    from scipy.special import kolmogorov

    return float(kolmogorov(x))
