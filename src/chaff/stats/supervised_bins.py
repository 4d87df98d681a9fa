"""Bins cut where the classes change, as far as they pay for their own description."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats, Ints


def description_length_cuts(values: Floats, classes: Ints, count: int, most: int = 253) -> Floats:
    """Cut points by recursive splitting, each accepted only when the bits it saves exceed the bits it costs.

    Parameters
    ----------
    values : float64 (n,), without gaps
    classes : int64 (n,), 0..count-1
    most : int
        No more cuts than this.

    Notes
    -----
    Cuts that saw the classes describe; a p-value on such bins would be far too small, so none is ever given.
    Source: Fayyad and Irani, 1993.
    """
    distinct, place = np.unique(values, return_inverse=True)
    table = np.zeros((distinct.size, count))
    np.add.at(table, (place, classes), 1.0)
    below = np.vstack([np.zeros(count), np.cumsum(table, 0)])
    cuts: list[int] = []
    open_ranges = [(0, distinct.size)]
    while open_ranges and len(cuts) < most:
        lo, hi = open_ranges.pop(0)
        at = _best_cut(below, lo, hi)
        if at is not None:
            cuts.append(at)
            open_ranges += [(lo, at), (at, hi)]
    where = np.sort(np.array(cuts, int))
    out: Floats = distinct[where - 1] + (distinct[where] - distinct[where - 1]) / 2
    return out


def _best_cut(below: Floats, lo: int, hi: int) -> int | None:
    """The cut of distinct values lo..hi-1 that saves most, when it pays; None otherwise."""
    if hi - lo < 2:
        return None
    whole = below[hi] - below[lo]
    left = below[lo + 1 : hi] - below[lo]
    right = whole - left
    n, a, b = whole.sum(), left.sum(1), right.sum(1)
    ent, ent_a, ent_b = _bits(whole[None])[0], _bits(left), _bits(right)
    gain = ent - (a * ent_a + b * ent_b) / n
    best = int(np.argmax(gain))
    kinds = [float((t > 0).sum()) for t in (whole, left[best], right[best])]
    cost = np.log2(3.0 ** kinds[0] - 2.0) - (kinds[0] * ent - kinds[1] * ent_a[best] - kinds[2] * ent_b[best])
    if gain[best] <= (np.log2(n - 1.0) + cost) / n:
        return None
    return lo + 1 + best


def _bits(counts: Floats) -> Floats:
    share = counts / np.maximum(counts.sum(1, keepdims=True), 1.0)
    answer: Floats = -np.where(share > 0, share * np.log2(np.where(share > 0, share, 1.0)), 0.0).sum(1)
    return answer
