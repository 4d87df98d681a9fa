"""Annealing: random changes of a set, worse ones taken too while it is hot."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategy import as_move, check_least_one, largest
from chaff.results.trail import Move
from chaff.work import Work

PROBES = 20  # changes from which the first temperature is read
LAST = 1e-3  # of the first temperature: where it ends


@dataclass(frozen=True)
class Annealing:
    """Simulated annealing.

    Parameters
    ----------
    steps : int
        Changes that are tried.
    taken_at_first : float
        Share of the worsening changes that are taken at the beginning; the first temperature follows from it and from what changes
        cost at the starting set.
    exchanges : float
        Share of the changes that exchange a feature for another; the others put one in or take one out.
    size : int, float or None
        Largest set: a number, or a share of the features below 1; None for any size.
    patience : int or None
        Stop after so many changes without a new best.

    Notes
    -----
    The temperature falls by the same factor at each step, to a thousandth. Starts from a random half of the features. Source:
    Kirkpatrick, Gelatt and Vecchi, 1983.

    Examples
    --------
    >>> import chaff
    >>> chaff.Search(strategy=chaff.Annealing(steps=300)).strategy.steps
    300
    """

    steps: int = 1000
    taken_at_first: float = 0.5
    exchanges: float = 0.5
    size: int | float | None = None
    patience: int | None = None

    name: ClassVar[str] = "annealing"
    leaps: ClassVar[bool] = True
    """It does not walk through the sizes one by one."""

    def __post_init__(self) -> None:
        check_least_one(steps=self.steps, size=self.size, patience=self.patience)
        if not 0 < self.taken_at_first < 1 or not 0 <= self.exchanges <= 1:
            raise UsageError("annealing: taken_at_first must lie between 0 and 1, exchanges from 0 to 1")

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        free = sorted(set(scorer.features) - pinned)
        most = max(largest(self.size, len(scorer.features)) - len(pinned), 1)
        draws, sign = work.stream("annealing"), 1.0 if scorer.metric.higher_is_better else -1.0
        here = pinned | _drawn_set(free, min(most, max(1, len(free) // 2)), draws)
        while not scorer.affordable(here) and here - pinned:
            here -= {sorted(here - pinned)[int(draws.integers(len(here - pinned)))]}
        score = scorer(here)
        yield as_move("start", "", score, self.name)
        if not free:
            return
        heat = self._first_heat(scorer, here, free, most, draws, score.mean * sign, sign)
        cooling = LAST ** (1.0 / max(self.steps - 1, 1))
        now, best, since = score.mean * sign, score.mean * sign, 0
        for _ in range(self.steps):
            there = self._changed(here, pinned, free, most, draws)
            chance = draws.random()
            heat *= cooling
            if not there or not scorer.affordable(there):
                continue
            score = scorer(there)
            value = sign * score.mean
            if value >= now or chance < np.exp((value - now) / max(heat, 1e-300)):
                words = ", ".join([*(f"− {f}" for f in sorted(here - there)), *(f"+ {f}" for f in sorted(there - here))])
                here, now = there, value
                yield as_move("change", words, score, self.name, temperature=heat)
            since = 0 if value > best else since + 1
            best = max(best, value)
            if self.patience is not None and since >= self.patience:
                return

    def _first_heat(
        self, scorer: SubsetScorer, here: frozenset[str], free: list[str], most: int, draws: np.random.Generator, now: float, sign: float
    ) -> float:
        """At which worsening changes of the usual size are taken as often as was said."""
        tried = [self._changed(here, here - set(free), free, most, draws) for _ in range(PROBES)]
        tried = [s for s in tried if s and scorer.affordable(s)]
        worse = [max(now - sign * s.mean, 0.0) for s in scorer.many(tried)]
        usual = float(np.mean([w for w in worse if w > 0] or [1e-6]))
        answer: float = usual / -np.log(self.taken_at_first)
        return answer

    def _changed(
        self, here: frozenset[str], pinned: frozenset[str], free: list[str], most: int, draws: np.random.Generator
    ) -> frozenset[str]:
        """The set with one random change."""
        inside, outside = [f for f in free if f in here], [f for f in free if f not in here]
        pick = draws.random(3)
        if inside and outside and pick[0] < self.exchanges:
            return here - {inside[int(pick[1] * len(inside))]} | {outside[int(pick[2] * len(outside))]}
        which = free[int(pick[1] * len(free))]
        if which not in here and len(inside) >= most:
            which = inside[int(pick[2] * len(inside))]
        return here ^ {which}

    def most_evaluations(self, features: int, pinned: int) -> int:
        return self.steps + PROBES + 1

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()


def _drawn_set(free: list[str], count: int, draws: np.random.Generator) -> frozenset[str]:
    return frozenset(free[j] for j in draws.permutation(len(free))[:count])
