"""Do parts of the rows differ in a slope or a mean, more than rows that are dealt out among them at random?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints

TINY = 1e-12
SHUFFLES = 499  # deals of the rows, where nothing else is asked for


@dataclass(frozen=True)
class Differing:
    """A value of every part, and how often chance alone would make them as different."""

    values: Floats
    """float64 (parts,)."""
    errors: Floats
    overall: float
    p: float


def _sums(x: Floats, starts: Ints) -> Floats:
    return np.add.reduceat(x, starts)


def _slopes(x: Floats, y: Floats, starts: Ints, sizes: Ints) -> tuple[Floats, Floats]:
    """(slope of every part, its variance by the rows' own spread (White, 1980)); parts lie one after the other."""
    mx, my = _sums(x, starts) / sizes, _sums(y, starts) / sizes
    cx, cy = x - np.repeat(mx, sizes), y - np.repeat(my, sizes)
    sxx = np.maximum(_sums(cx**2, starts), TINY)
    b = _sums(cx * cy, starts) / sxx
    off = (cy - np.repeat(b, sizes) * cx) * cx
    lost = np.maximum(sizes - 2, 1)
    return b, np.maximum(_sums(off**2, starts) / sxx**2 * sizes / lost, TINY)


def _spread(values: Floats, variances: Floats) -> tuple[float, float]:
    """(weighted mean, Cochran's Q)."""
    w = 1.0 / variances
    mean = float((w * values).sum() / w.sum())
    return mean, float((w * (values - mean) ** 2).sum())


def slopes_differ(x: Floats, y: Floats, parts: Ints, shuffles: int, rng: np.random.Generator) -> Differing:
    """Whether the slope of y on x differs between parts: Cochran's Q (1954) with errors from the rows' own spread, held against rows dealt
    out among the parts anew, each less its part's mean.

    parts : int64 (rows,), 0, 1, …, every one with three rows or more.
    """
    order = np.argsort(parts, kind="stable")
    sizes = np.bincount(parts)
    starts = np.concatenate([[0], np.cumsum(sizes)[:-1]])
    x, y = x[order], y[order]
    b, v = _slopes(x, y, starts, sizes)
    overall, q = _spread(b, v)
    cx, cy = (a - np.repeat(_sums(a, starts) / sizes, sizes) for a in (x, y))
    above = 0
    for _ in range(shuffles):
        some = rng.permutation(x.size)
        above += _spread(*_slopes(cx[some], cy[some], starts, sizes))[1] >= q
    return Differing(b, np.sqrt(v), overall, (1 + above) / (1 + shuffles))


def means_differ(d: Floats, parts: Ints, shuffles: int, rng: np.random.Generator) -> Differing:
    """Whether the mean of d differs between parts (Welch's weights, 1951), held against rows dealt out among the parts anew."""
    order = np.argsort(parts, kind="stable")
    sizes = np.bincount(parts)
    starts = np.concatenate([[0], np.cumsum(sizes)[:-1]])
    d = d[order]

    def told(values: Floats) -> tuple[Floats, Floats]:
        means = _sums(values, starts) / sizes
        off = values - np.repeat(means, sizes)
        return means, np.maximum(_sums(off**2, starts) / np.maximum(sizes - 1, 1) / sizes, TINY)

    means, variances = told(d)
    overall, q = _spread(means, variances)
    above = sum(_spread(*told(d[rng.permutation(d.size)]))[1] >= q for _ in range(shuffles))
    return Differing(means, np.sqrt(variances), overall, (1 + above) / (1 + shuffles))
