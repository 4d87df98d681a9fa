"""How sets recombine: who mates, how two sets mix, and what the front of two aims is. Plain arrays and named draws."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np

from chaff.arrays import Flags, Floats, Ints

Draws = np.random.Generator
Parents = Literal["tournament", "rank", "proportional", "even draws"]
Crossover = Literal["uniform", "half uniform", "one cut", "two cuts", "shuffled cut"]


def parents(kind: Parents, fitness: Floats, count: int, draws: Draws) -> Ints:
    """Numbers of `count` parents, better ones more often; fitness : float64 (n,), higher is better."""
    return PARENTS[kind](fitness, count, draws)


def _tournament(fitness: Floats, count: int, draws: Draws) -> Ints:
    """The better of two drawn at random, again and again (Goldberg and Deb, 1991)."""
    pairs = draws.integers(len(fitness), size=(count, 2))
    return np.where(fitness[pairs[:, 0]] >= fitness[pairs[:, 1]], pairs[:, 0], pairs[:, 1])


def _rank(fitness: Floats, count: int, draws: Draws) -> Ints:
    """In proportion to the place from the bottom, equals sharing theirs (Baker, 1985)."""
    return draws.choice(len(fitness), count, p=_shares(_places(fitness)))


def _proportional(fitness: Floats, count: int, draws: Draws) -> Ints:
    """In proportion to the score above the worst (Holland, 1975)."""
    return draws.choice(len(fitness), count, p=_shares(_above_worst(fitness)))


def _even_draws(fitness: Floats, count: int, draws: Draws) -> Ints:
    """In proportion to the score above the worst, by marks at even distances: nobody is drawn much more or less often than is
    due (Baker, 1987)."""
    edges = np.cumsum(_shares(_above_worst(fitness)))
    marks = (draws.random() + np.arange(count)) / count
    return draws.permutation(np.searchsorted(edges, marks, side="right").clip(max=len(fitness) - 1))


PARENTS: dict[str, Callable[[Floats, int, Draws], Ints]] = {
    "tournament": _tournament, "rank": _rank, "proportional": _proportional, "even draws": _even_draws,
}  # fmt: skip


def _places(fitness: Floats) -> Floats:
    values, inverse = np.unique(fitness, return_inverse=True)
    counts = np.bincount(inverse, minlength=len(values))
    last = np.cumsum(counts)
    return ((2 * last - counts + 1) / 2.0)[inverse]


def _above_worst(fitness: Floats) -> Floats:
    """A hundredth of the spread on top, so that the worst too has a chance."""
    spread = float(np.ptp(fitness))
    answer: Floats = fitness - fitness.min() + (0.01 * spread if spread > 0 else 1.0)
    return answer


def _shares(weights: Floats) -> Floats:
    answer: Floats = weights / weights.sum()
    return answer


def mixed(kind: Crossover, a: Flags, b: Flags, draws: Draws) -> tuple[Flags, Flags]:
    """Two children of two sets, bool (features,) each: what one takes from the first, the other takes from the second."""
    take = CROSSOVER[kind](a, b, draws)
    return np.where(take, a, b), np.where(take, b, a)


def _uniform(a: Flags, b: Flags, draws: Draws) -> Flags:
    """Each column from either (Syswerda, 1989)."""
    return draws.random(a.size) < 0.5


def _half_uniform(a: Flags, b: Flags, draws: Draws) -> Flags:
    """Exactly half of the columns in which they differ change sides (Eshelman, 1991)."""
    differ = np.flatnonzero(a != b)
    take = np.ones(a.size, bool)
    take[draws.permutation(differ)[: len(differ) // 2]] = False
    return take


def _one_cut(a: Flags, b: Flags, draws: Draws) -> Flags:
    """Columns before a cut from one, behind it from the other (Holland, 1975)."""
    return np.arange(a.size) < draws.integers(1, max(a.size, 2))


def _two_cuts(a: Flags, b: Flags, draws: Draws) -> Flags:
    """A stretch between two cuts from the other (De Jong, 1975)."""
    first, second = np.sort(draws.integers(0, a.size + 1, 2))
    place = np.arange(a.size)
    answer: Flags = (place < first) | (place >= second)
    return answer


def _shuffled_cut(a: Flags, b: Flags, draws: Draws) -> Flags:
    """One cut through the columns in a random order, so that neighbours are not kept together (Caruana, Eshelman and Schaffer, 1989)."""
    return draws.permutation(a.size) < draws.integers(1, max(a.size, 2))


CROSSOVER: dict[str, Callable[[Flags, Flags, Draws], Flags]] = {
    "uniform": _uniform, "half uniform": _half_uniform, "one cut": _one_cut, "two cuts": _two_cuts, "shuffled cut": _shuffled_cut,
}  # fmt: skip


def fronts(aims: Floats) -> Ints:
    """Front of each point, 0 for what nothing dominates; aims : float64 (n, k), higher is better in each. Source: Deb et al., 2002."""
    better = (aims[:, None, :] >= aims[None, :, :]).all(2) & (aims[:, None, :] > aims[None, :, :]).any(2)
    out = np.full(len(aims), -1, np.int64)
    left, number = np.ones(len(aims), bool), 0
    while left.any():
        first = left & ~(better & left[:, None]).any(0)
        out[first] = number
        left &= ~first
        number += 1
    return out


def crowding(aims: Floats, front: Ints) -> Floats:
    """How much room each point has on its front; the ends have all of it. float64 (n,). Source: Deb et al., 2002."""
    room = np.zeros(len(aims))
    for number in np.unique(front):
        subset = np.flatnonzero(front == number)
        for aim in aims[subset].T:
            order = np.argsort(aim, kind="stable")
            span = aim[order[-1]] - aim[order[0]]
            room[subset[order[[0, -1]]]] = np.inf
            if span > 0 and len(subset) > 2:
                room[subset[order[1:-1]]] += (aim[order[2:]] - aim[order[:-2]]) / span
    return room


def diversity(population: Flags) -> float:
    """Share of the columns in which two different members of a population differ on average."""
    n = len(population)
    if n < 2 or not population.shape[1]:
        return 0.0
    share = population.mean(0)
    return float((2 * share * (1 - share)).mean() * n / (n - 1))
