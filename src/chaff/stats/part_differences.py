"""Do parts of the rows differ in a slope or a mean, more than units of rows that are dealt out among them at random?

Have the shares of levels changed between two samples, and are there more new levels than rare ones explain?
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.stats.tail_probabilities import chi_square_upper, normal_upper

LEAST_EXPECTED = 5.0  # rows of a level in the smaller sample, under which rare levels are added up
COUNTED = 5_000  # rows with new levels, up to which their distribution is counted out


def pooled_cells(old: Floats, new: Floats) -> tuple[Floats, Floats]:
    """Counts of two samples with rare levels added up until each cell expects five rows in both; at least one cell."""
    n, m = float(old.sum()), float(new.sum())
    total = old + new
    order = np.argsort(-total, kind="stable")
    old, new, total = old[order], new[order], total[order]
    enough = total * min(n, m) / max(n + m, 1.0) >= LEAST_EXPECTED
    big = int(enough.sum())  # they come first
    rest_old, rest_new = old[big:].sum(), new[big:].sum()
    if big and (rest_old + rest_new) * min(n, m) / max(n + m, 1.0) < LEAST_EXPECTED:
        big -= 1
        rest_old, rest_new = rest_old + old[big], rest_new + new[big]
    return np.append(old[:big], rest_old), np.append(new[:big], rest_new)


def shares_changed_p(old: Floats, new: Floats, effect: float) -> float:
    """p of both samples having the same shares: Pearson's chi-square (1900) of pooled cells.

    effect : by how much rows that hang together make shares spread wider; the statistic is divided by it (Rao and Scott, 1981).
    """
    a, b = pooled_cells(old, new)
    n, m, total = float(a.sum()), float(b.sum()), a + b
    if a.size < 2 or n <= 0 or m <= 0:
        return 1.0
    x = float((((a * m - b * n) ** 2) / total).sum()) / (n * m)
    return float(chi_square_upper(np.array(x / max(effect, 1.0)), np.array(float(a.size - 1))))


def unseen_p(old: Floats, new: Floats, effect: float) -> float:
    """How often so many new rows would have levels that no old row has, were all rows of both samples permuted.

    A level of c rows lies in the new sample alone with a chance of about its share of the rows to the power c: the rows of rare levels
    are as many as the levels that were seen once foretell (Good, 1953). The sum over the levels is counted out.
    """
    n, m = float(old.sum()), float(new.sum())
    seen = float(new[old == 0].sum())
    if not seen > 0:
        return 1.0
    if n <= 0:
        return 0.0
    counts = np.maximum(old + new, 0.0)
    alone = (m / (n + m)) ** np.maximum(counts / max(effect, 1.0), 1.0)
    if seen > COUNTED:
        spread = float(np.sqrt((counts**2 * alone * (1 - alone)).sum()))
        return float(normal_upper(np.array((seen - float(counts @ alone)) / max(spread, 1e-300))))
    below = np.zeros(int(np.ceil(seen)))  # chance of so many rows, fewer than were seen
    below[0] = 1.0
    for c, q in zip(np.maximum(np.rint(counts), 1).astype(int), alone, strict=True):
        if q < 1e-12:
            continue
        moved = below[: below.size - c] * q if c < below.size else np.empty(0)
        below *= 1.0 - q
        if moved.size:
            below[c:] += moved
    return float(np.clip(1.0 - below.sum(), 0.0, 1.0))


Statistic = Callable[[Floats, Ints, Ints], tuple[Floats, Floats]]
TINY = 1e-12
SHUFFLES = 499  # deals of the units, where nothing else is asked for
FEWEST_UNITS = 3  # of a part, under which its spread cannot be told
ENOUGH_UNITS = 12  # in all, under which deals say too little
LENGTHS = 6.0  # times the correlation length that a stretch of time must have to be dealt by itself


@dataclass(frozen=True)
class Differing:
    """A value of every part, and how often chance alone would make them as different."""

    values: Floats
    """float64 (parts,)."""
    errors: Floats
    overall: float
    p: float
    """NaN where there are too few independent units to tell."""


@dataclass(frozen=True)
class _Units:
    """Units of rows, those of a part one after the other."""

    sums: Floats
    """float64 (units, what is added up): rows, x, y, x², xy."""
    sizes: Ints
    """Units of each part."""

    @property
    def starts(self) -> Ints:
        return np.concatenate([[0], np.cumsum(self.sizes)[:-1]]).astype(np.int64)


def _spread(values: Floats, variances: Floats) -> tuple[float, float]:
    """(weighted mean, Cochran's Q)."""
    w = 1.0 / variances
    mean = float((w * values).sum() / w.sum())
    return mean, float((w * (values - mean) ** 2).sum())


def _slopes(sums: Floats, starts: Ints, sizes: Ints) -> tuple[Floats, Floats]:
    """(slope of every part, its variance by the spread of its units (White, 1980; Liang and Zeger, 1986))."""
    n, sx, sy, sxx, sxy = np.add.reduceat(sums, starts).T
    mx, my = sx / n, sy / n
    cxx = np.maximum(sxx - n * mx * mx, TINY)
    b = (sxy - n * mx * my) / cxx
    rows, ux, uy, uxx, uxy = sums.T
    mx, my, slope = (np.repeat(v, sizes) for v in (mx, my, b))
    off = uxy - mx * uy - my * ux + rows * mx * my - slope * (uxx - 2 * mx * ux + rows * mx * mx)
    return b, np.maximum(np.add.reduceat(off**2, starts) / cxx**2 * sizes / np.maximum(sizes - 2, 1), TINY)


def _means(sums: Floats, starts: Ints, sizes: Ints) -> tuple[Floats, Floats]:
    """(mean of y in every part, its variance by the spread of its units)."""
    n, _, sy, _, _ = np.add.reduceat(sums, starts).T
    mean = sy / n
    off = sums[:, 2] - sums[:, 0] * np.repeat(mean, sizes)
    return mean, np.maximum(np.add.reduceat(off**2, starts) / n**2 * sizes / np.maximum(sizes - 1, 1), TINY)


def slopes_differ(x: Floats, y: Floats, parts: Ints, shuffles: int, rng: np.random.Generator, units: Ints | None = None) -> Differing:
    """Whether the slope of y on x differs between parts: Cochran's Q (1954) with errors from the spread of the units, held against units
    permuted among the parts, each less its part's mean.

    parts : int64 (rows,), 0, 1, …, every one with three rows or more.
    units : int64 (rows,), optional
        Rows that hang together, such as a group or a stretch of time; none lies in two parts. Every row by itself when left out.
    """
    sizes = np.bincount(parts)
    cx, cy = (a - (np.bincount(parts, a) / sizes)[parts] for a in (x, y))
    return _differ(_slopes, _added(x, y, parts, units), _added(cx, cy, parts, units), shuffles, rng)


def means_differ(d: Floats, parts: Ints, shuffles: int, rng: np.random.Generator, units: Ints | None = None) -> Differing:
    """Whether the mean of d differs between parts (Welch's weights, 1951), held against units permuted among the parts."""
    made = _added(np.zeros(d.size), d, parts, units)
    return _differ(_means, made, made, shuffles, rng)


def _added(x: Floats, y: Floats, parts: Ints, units: Ints | None) -> _Units:
    codes = np.arange(x.size) if units is None else units
    _, first, codes = np.unique(codes, return_index=True, return_inverse=True)
    order = np.argsort(parts[first], kind="stable")
    place = np.empty(order.size, np.int64)
    place[order] = np.arange(order.size)
    codes = place[codes]
    sums = np.column_stack([np.bincount(codes, v, order.size) for v in (np.ones(x.size), x, y, x * x, x * y)]).astype(float)
    return _Units(sums, np.bincount(parts[first], minlength=int(parts.max()) + 1))


def _differ(text: Statistic, real: _Units, permuted: _Units, shuffles: int, rng: np.random.Generator) -> Differing:
    starts, sizes = real.starts, real.sizes
    values, variances = text(real.sums, starts, sizes)
    overall, q = _spread(values, variances)
    if sizes.min() < FEWEST_UNITS or sizes.sum() < ENOUGH_UNITS:
        return Differing(values, np.sqrt(variances), overall, float("nan"))
    above = 0
    for _ in range(shuffles):
        above += _spread(*text(permuted.sums[rng.permutation(len(permuted.sums))], starts, sizes))[1] >= q
    return Differing(values, np.sqrt(variances), overall, (1 + above) / (1 + shuffles))


def stretches(series: Floats, order: Floats, parts: Ints) -> Ints:
    """Stretches of time in each part, int64 (rows,), long enough to be dealt as if they knew nothing of each other.

    Each is six correlation lengths of the series long, by its lag-one correlation within parts: (1 + r) / (1 - r) rows.
    """
    out = np.zeros(series.size, np.int64)
    at = np.argsort(order, kind="stable")
    pairs, squares = 0.0, 0.0
    for k in range(int(parts.max()) + 1):
        here = series[at[parts[at] == k]]
        off = here - here.mean()
        pairs, squares = pairs + float(off[1:] @ off[:-1]), squares + float(off @ off)
    r = float(np.clip(pairs / squares if squares > 0 else 0.0, 0.0, 0.99))
    length = max(1, int(np.ceil(LENGTHS * (1 + r) / (1 - r)))) if r > 0 else 1
    next_ = 0
    for k in range(int(parts.max()) + 1):
        here = at[parts[at] == k]
        count = max(1, here.size // length)
        out[here] = next_ + np.arange(here.size) * count // here.size
        next_ += count
    return out
