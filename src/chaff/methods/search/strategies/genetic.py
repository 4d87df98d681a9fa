"""Genetic search: a population of sets of which the better ones mate."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.breeding import Crossover, Draws, Parents, crowding, diversity, fronts, mixed, parents
from chaff.methods.search.strategy import as_move, check_least_one, largest
from chaff.results.score import Score
from chaff.results.trail import Move
from chaff.work import Work

STRICTLY = 1e-12


@dataclass(frozen=True)
class Genetic:
    """Genetic algorithm over subsets.

    Parameters
    ----------
    fullness : float
        Share of the features in the first sets; their sizes spread evenly from none to twice that.
    population, generations : int
        Sets alive at a time, and how often they are replaced by their children.
    patience : int or None
        Stop after so many generations without anything better.
    aims : "score" or "score and size"
        One aim, or two at once: then sets live on that no other beats in both, and those with most room among equals; the trail holds
        the front of each generation.
    parents : "tournament", "rank", "proportional" or "even draws"
        Who mates: the better of two; by place; by score above the worst; the same at even distances.
    crossover : "uniform", "half uniform", "one cut", "two cuts" or "shuffled cut"
        How two sets mix.
    crossover_share : float
        Share of the pairs that mix; the others' children are copies.
    mutations : float
        Columns that flip in a child on average.
    survivors : int
        So many of the best live on as they are; 0 for none. With two aims all that no other beats do.
    price : float
        What a feature costs in the units of the score, with one aim.
    size : int, float or None
        Largest set: a number, or a share of the features below 1.
    smallest : int
        Smallest set.

    Notes
    -----
    Source: Holland, 1975; for subsets Siedlecki and Sklansky, 1989; mutations one a child: Bäck, 1993; two aims: Deb, Pratap, Agarwal
    and Meyarivan, 2002; who mates and how they mix: see `chaff.methods.search.breeding`.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "straw_pct", "lab_temp_c"])
    >>> trail = chaff.search(lots, "ridge", chaff.Genetic(population=10, generations=3), honest=False)
    >>> trail.generations.columns.tolist()[:4]
    ['best', 'mean', 'size', 'diversity']
    """

    fullness: float = 0.5
    population: int = 50
    generations: int = 60
    patience: int | None = None
    aims: Literal["score", "score and size"] = "score"
    parents: Parents = "tournament"
    crossover: Crossover = "uniform"
    crossover_share: float = 0.9
    mutations: float = 1.0
    survivors: int = 1
    price: float = 0.0
    size: int | float | None = None
    smallest: int = 1

    name: ClassVar[str] = "genetic"
    leaps: ClassVar[bool] = True
    """It does not walk through the sizes one by one."""

    def __post_init__(self) -> None:
        check_least_one(generations=self.generations, patience=self.patience, size=self.size, smallest=self.smallest)
        wrong = []
        if self.population < 4:
            wrong.append(f"population must be 4 or more, not {self.population}")
        for name, low in (("fullness", 1e-9), ("crossover_share", 0.0)):
            if not low <= getattr(self, name) <= 1:
                wrong.append(f"{name} must lie between 0 and 1, not {getattr(self, name)}")
        if self.mutations < 0 or self.price < 0 or not 0 <= self.survivors < self.population:
            wrong.append("mutations and price must be 0 or more, survivors fewer than the population")
        if wrong:
            raise UsageError(f"genetic: {'; '.join(wrong)}")

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        free = sorted(set(scorer.features) - pinned)
        if not free:
            yield as_move("try", "", scorer(pinned), self.name)
            return
        brood = Brood(self, scorer, pinned, tuple(free), work)
        sign, seen = 1.0 if scorer.metric.higher_is_better else -1.0, set[frozenset[str]]()
        alive = brood.first()
        best, since = None, 0
        for number in range(self.generations + 1):
            scores = brood.scores(alive)
            for score in scores:
                if score.features not in seen:
                    seen.add(score.features)
                    yield as_move("try", "", score, self.name, generation=number)
            values = np.array([sign * s.mean for s in scores])
            aims = np.column_stack([values, -alive.sum(1)]) if self.aims != "score" else (values - self.price * alive.sum(1))[:, None]
            alive, aims, scores = brood.living(alive, aims, scores)
            yield _generation_move(number, alive, aims, scores, self.name, sign)
            reached = _reached(aims)
            since = since + 1 if best is not None and not _further(reached, best) else 0
            best = reached if best is None or since == 0 else best
            if number == self.generations or (self.patience is not None and since >= self.patience):
                return
            alive = brood.next(alive, aims, number + 1)

    def most_evaluations(self, features: int, pinned: int) -> int:
        return self.population * (self.generations + 1)

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()


@dataclass
class Brood:
    """The population as bits, bool (n, free features), and how it goes on."""

    how: Genetic
    scorer: SubsetScorer
    pinned: frozenset[str]
    free: tuple[str, ...]
    work: Work

    def __post_init__(self) -> None:
        most = largest(self.how.size, len(self.scorer.features)) - len(self.pinned)
        self.most = max(1, min(most, len(self.free)))
        self.least = max(0 if self.pinned else 1, min(self.how.smallest - len(self.pinned), self.most))
        self.before: tuple[Flags, Floats, list[Score]] | None = None
        """Of two aims: those who were alive before, who compete with their children."""

    def first(self) -> Flags:
        """Sets of different sizes, around the fullness that was asked for."""
        draws = self.work.stream("genetic", "first")
        n, p = self.how.population, len(self.free)
        wanted = np.linspace(0, min(2 * self.how.fullness, 1.0), n) * p
        alive = draws.random((n, p)).argsort(1).argsort(1) < np.maximum(1, np.round(wanted))[:, None]
        return np.array([self._mended(row, draws) for row in alive])

    def scores(self, alive: Flags) -> list[Score]:
        return self.scorer.many([self.pinned | {f for f, held in zip(self.free, row, strict=True) if held} for row in alive])

    def living(self, alive: Flags, aims: Floats, scores: list[Score]) -> tuple[Flags, Floats, list[Score]]:
        """Who lives: with one aim the children; with two the best of parents and children, equal sets only once."""
        if self.how.aims == "score":
            return alive, aims, scores
        if self.before is not None:
            alive, aims = np.concatenate([self.before[0], alive]), np.concatenate([self.before[1], aims])
            scores = [*self.before[2], *scores]
            first = np.sort(np.unique(alive, axis=0, return_index=True)[1])
            alive, aims, scores = alive[first], aims[first], [scores[k] for k in first]
            front = fronts(aims)
            order = np.lexsort((-crowding(aims, front), front))[: self.how.population]
            alive, aims, scores = alive[order], aims[order], [scores[k] for k in order]
        self.before = alive, aims, scores
        return alive, aims, scores

    def next(self, alive: Flags, aims: Floats, generation: int) -> Flags:
        """The children, and of one aim the best of their parents."""
        draws = self.work.stream("genetic", generation)
        n, how = self.how.population, self.how
        fitness = aims[:, 0] if how.aims == "score" else _standing(aims)
        kept = list(alive[np.argsort(-fitness, kind="stable")[: how.survivors]]) if how.aims == "score" else []
        drawn = parents(how.parents, fitness, n + n % 2, draws)
        children: list[Flags] = []
        for a, b in zip(drawn[::2], drawn[1::2], strict=True):
            pair = (alive[a], alive[b])
            children += mixed(how.crossover, *pair, draws) if draws.random() < how.crossover_share else pair
        flips = draws.random((len(children), len(self.free))) < how.mutations / len(self.free)
        return np.array([*kept, *(self._mended(c ^ f, draws) for c, f in zip(children, flips, strict=True))][:n])

    def _mended(self, row: Flags, draws: Draws) -> Flags:
        """Within the sizes and the total cost, by random features."""
        row = row.copy()
        inside = draws.permutation(np.flatnonzero(row))
        row[inside[self.most :]] = False
        outside = draws.permutation(np.flatnonzero(~row))
        row[outside[: max(0, self.least - int(row.sum()))]] = True
        if self.scorer.tally.limits.total_cost is not None:
            held = self.pinned
            for j in draws.permutation(np.flatnonzero(row)):
                if self.scorer.affordable(held | {self.free[j]}):
                    held = held | {self.free[j]}
            row = np.array([f in held for f in self.free])
            if not held:  # nothing fits by itself but in a better order: the cheapest one
                row[min(range(len(self.free)), key=lambda j: (self.scorer.prices.of_set([self.free[j]]), self.free[j]))] = True
        return row


def _standing(aims: Floats) -> Floats:
    """One number for who is ahead with two aims: the front first, then the room on it."""
    front = fronts(aims)
    room = crowding(aims, front)
    order = np.lexsort((room, -front))
    out = np.empty(len(aims))
    out[order] = np.arange(len(aims))
    return out


def _generation_move(number: int, alive: Flags, aims: Floats, scores: list[Score], name: str, sign: float) -> Move:
    """The best set of a generation, with what the generation was like."""
    best = int(np.argmax(aims[:, 0]))
    both = np.array([(sign * s.mean, -len(s.features)) for s in scores])
    first = np.flatnonzero(fronts(both) == 0)
    front = sorted({(len(scores[k].features), scores[k].mean) for k in first})
    facts = {"generation": number, "mean": float(np.mean([s.mean for s in scores])), "diversity": diversity(alive), "on_front": len(front)}
    return as_move("generation", "", scores[best], name, **facts, front=front)


def _reached(aims: Floats) -> Floats:
    """What nothing alive beats."""
    answer: Floats = aims[fronts(aims) == 0]
    return answer


def _further(now: Floats, before: Floats) -> bool:
    """Whether something is reached that nothing before reached as well."""
    return any(not (before >= point - STRICTLY).all(1).any() for point in now)
