"""Strategy: a way to walk through sets of features. Its moves are yielded one by one, so that stopping costs nothing."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, ClassVar, Protocol

import numpy as np

from chaff.choices import Registry
from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.walk import Walk
from chaff.results.score import Score
from chaff.results.trail import Move, Trail
from chaff.work import Work

STRATEGIES = Registry("chaff.methods.search.strategies", "strategy")


class Strategy(Protocol):
    """A frozen dataclass: its fields are its settings."""

    name: ClassVar[str]

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        """The sets it goes through, pinned features always in them."""
        ...

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        """What it will do differently on this table than it says, in words; empty where nothing is."""
        ...


def as_strategy(said: Any) -> Strategy:
    """A strategy from an object, a name such as "forward", or a mapping such as ``{"name": "forward", "size": 10}``."""
    strategy: Strategy = STRATEGIES.make(said)
    if not hasattr(strategy, "moves"):
        raise UsageError(f"{said!r} is no strategy: it lacks moves(scorer, pinned, work)")
    return strategy


def trail_of(strategy: Strategy, scorer: SubsetScorer, pinned: frozenset[str], work: Work, method: str = "search") -> Trail:
    """Everything that a strategy goes through, as a trail."""
    metric = scorer.metric
    return Trail(
        method,
        tuple(strategy.moves(scorer, pinned, work)),
        scorer.features,
        metric.name,
        metric.higher_is_better,
        scorer.test_share,
        (f"{scorer.folds.how}, {metric.label}", *strategy.notes(scorer)),
    )


def steps(walk: Walk, scorer: SubsetScorer, left: list[str], count: int, direction: str, patience: int | None) -> Iterator[Move]:
    """The best single change of those that are `left`, again and again."""
    action = "add" if direction == "forward" else "remove"
    sign = 1 if scorer.metric.higher_is_better else -1
    best, since = -np.inf, 0
    for _ in range(max(count, 0)):
        changes = walk.changes(left)
        name = changes.best()
        score = changes[name]
        walk.toggle(name)
        left.remove(name)
        yield as_move(action, name, score, direction)
        since = 0 if sign * score.mean > best else since + 1
        best = max(best, sign * score.mean)
        if patience is not None and since >= patience:
            return


def as_move(action: str, name: str, score: Score, direction: str) -> Move:
    return Move(action, name, score.features, score.values, direction)


def check_least_one(**settings: int | None) -> None:
    """Sizes and patience are 1 or more, or left out."""
    wrong = [f"{name} must be 1 or more, not {value}" for name, value in settings.items() if value is not None and value < 1]
    if wrong:
        raise UsageError("; ".join(wrong))
