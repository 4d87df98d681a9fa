"""Adjusting a family of p-values.

Measurements on the real target held against the same on shuffled ones.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError, nearest


@dataclass(frozen=True)
class AgainstChance:
    """Every figure is of one column, float64 (columns,), unless it says otherwise; NaN where nothing was measured."""

    mean: Floats
    sd: Floats
    largest: Floats
    score: Floats
    """How many standard deviations of the shuffles the real value lies above their mean."""
    p: Floats
    """(1 + shuffles that reach the real value) / (1 + shuffles)."""
    family_p: Floats
    """The same for the largest standard score over all columns, step by step."""
    chance_scores: Floats
    """float64 (shuffles, columns): each shuffle's standard score among the others."""


def against_chance(real: Floats, shuffles: Floats) -> AgainstChance:
    """Hold a real value of each column against those of the shuffles.

    real : float64 (columns,).  shuffles : float64 (shuffles, columns), two or more.

    The largest score is taken over scores that leave the judged one out of mean and spread, the real one like every shuffle,
    so that under no effect all are exchangeable and the family error is kept however many columns there are and however they
    hang together. Source: Phipson and Smyth, 2010 (p); Westfall and Young, 1993 (the maximum, step by step).
    """
    known = ~np.isnan(real) & ~np.isnan(shuffles).any(0)
    out = {name: np.full(real.shape, np.nan) for name in ("mean", "sd", "largest", "score", "p", "family_p")}
    r, s = real[known], shuffles[:, known]
    count = len(s)
    out["mean"][known], out["sd"][known], out["largest"][known] = s.mean(0), s.std(0, ddof=1), s.max(0)
    every = left_out_scores(np.vstack([r, s]))
    out["score"][known] = every[0]
    out["p"][known] = (1.0 + (s >= r - _hair(r, s)).sum(0)) / (1.0 + count)
    out["family_p"][known] = _of_the_largest(every[0], every[1:])
    chance = np.full(shuffles.shape, np.nan)
    chance[:, known] = left_out_scores(s)
    return AgainstChance(**out, chance_scores=chance)


def left_out_scores(values: Floats) -> Floats:
    """(value - mean of the others) / standard deviation of the others, down each column; float64 (values, columns).

    Where the others do not differ: 0 when the value is theirs too, infinite otherwise.

    >>> left_out_scores(np.array([[3.0], [0.0], [2.0]])).round(3).ravel().tolist()
    [1.414, -3.536, 0.236]
    """
    k = len(values)
    off = values - values.mean(0)
    mean = -off / (k - 1)
    if k < 3:
        return np.zeros(values.shape)
    squares = (off**2).sum(0) - off**2 - (k - 1) * mean**2
    scale = (off**2).sum(0) * 1e-12
    sd = np.sqrt(np.maximum(squares, 0.0) / (k - 2))
    gap = off - mean
    flat = squares <= scale
    with np.errstate(divide="ignore", invalid="ignore"):
        score = np.where(flat, np.where(gap**2 <= scale, 0.0, np.sign(gap) * np.inf), gap / np.where(flat, 1.0, sd))
    return np.asarray(score)


def _hair(real: Floats, shuffles: Floats) -> Floats:
    """Rounding that must not break a tie: the shuffle that equals the real value has reached it."""
    return np.asarray(1e-12 * np.maximum(np.abs(real), np.abs(shuffles).max(0)))


def _of_the_largest(score: Floats, chance: Floats) -> Floats:
    """p of the largest score among a column and all that score less, never smaller than that of one before it."""
    order = np.argsort(-score, kind="stable")
    out, running, last = np.empty(score.size), np.full(len(chance), -np.inf), np.empty(score.size)
    for place in range(score.size - 1, -1, -1):
        j = order[place]
        running = np.maximum(running, chance[:, j])
        last[place] = (1.0 + (running >= score[j] - 1e-9).sum()) / (1.0 + len(chance))
    out[order] = np.maximum.accumulate(last)
    return out


def shuffles_to_adjust(columns: int, level: float) -> int:
    """How many shuffles it takes before the smallest single p can pass an adjustment over so many columns.

    >>> shuffles_to_adjust(50, 0.05)
    999
    """
    return max(1, int(np.ceil(round(columns / level, 9))) - 1)


def benjamini_hochberg(p: Floats) -> Floats:
    """q-values: the smallest false discovery rate at which each would be called. NaN stays NaN and is not counted.

    Source: Benjamini and Hochberg, 1995.

    >>> benjamini_hochberg(np.array([0.01, 0.04, 0.03])).round(3).tolist()
    [0.03, 0.04, 0.04]
    """
    q = np.full(p.shape, np.nan)
    known = np.flatnonzero(~np.isnan(p))
    order = known[np.argsort(p[known], kind="stable")]
    m = order.size
    if m:
        raw = p[order] * m / np.arange(1, m + 1)
        q[order] = np.minimum(np.minimum.accumulate(raw[::-1])[::-1], 1.0)
    return q


def holm(p: Floats) -> Floats:
    """p-values adjusted so that the chance of any false call in the family stays below the level.

    Source: Holm, 1979.

    >>> holm(np.array([0.01, 0.04, 0.03])).round(3).tolist()
    [0.03, 0.06, 0.06]
    """
    out = np.full(p.shape, np.nan)
    known = np.flatnonzero(~np.isnan(p))
    order = known[np.argsort(p[known], kind="stable")]
    m = order.size
    if m:
        out[order] = np.minimum(np.maximum.accumulate(p[order] * (m - np.arange(m))), 1.0)
    return out


def bonferroni(p: Floats) -> Floats:
    """p times the size of the family.  Source: Dunn, 1961.

    >>> bonferroni(np.array([0.01, 0.04, 0.5])).round(3).tolist()
    [0.03, 0.12, 1.0]
    """
    answer: Floats = np.minimum(p * (~np.isnan(p)).sum(), 1.0)
    return answer


def benjamini_yekutieli(p: Floats) -> Floats:
    """False discovery rate under any dependence between the tests.  Source: Benjamini and Yekutieli, 2001.

    >>> benjamini_yekutieli(np.array([0.01, 0.04, 0.03])).round(3).tolist()
    [0.055, 0.073, 0.073]
    """
    m = int((~np.isnan(p)).sum())
    return np.minimum(benjamini_hochberg(p) * (1.0 / np.arange(1, m + 1)).sum(), 1.0) if m else p.copy()


ADJUSTMENTS = {"benjamini_hochberg": benjamini_hochberg, "benjamini_yekutieli": benjamini_yekutieli, "holm": holm, "bonferroni": bonferroni}


def adjust(p: Floats, method: str) -> Floats:
    """A family of p-values by the name of the adjustment."""
    if method not in ADJUSTMENTS:
        raise UsageError(f"unknown adjustment '{method}'; choose from {', '.join(ADJUSTMENTS)}.{nearest(method, ADJUSTMENTS)}")
    return ADJUSTMENTS[method](p)
