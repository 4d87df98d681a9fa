"""Have the shares of levels changed between two samples, and are there more new levels than rare ones explain?"""

from __future__ import annotations

import numpy as np

from chaff.arrays import Floats
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
