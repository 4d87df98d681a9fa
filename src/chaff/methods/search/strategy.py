"""Strategy: a way to walk through sets of features. Its moves are yielded one by one, so that stopping costs nothing."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, ClassVar, Protocol

import numpy as np

from chaff.choices import Registry
from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.walk import Changes, Walk
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


def steps(
    walk: Walk, scorer: SubsetScorer, left: list[str], count: int, direction: str, patience: int | None, step: float = 1
) -> Iterator[Move]:
    """The best changes of those that are `left`, one or several at a time, again and again."""
    action = "add" if direction == "forward" else "remove"
    sign = 1 if scorer.metric.higher_is_better else -1
    best, since = -np.inf, 0
    while count > 0:
        changes = walk.changes(left)
        names = leading(changes, min(a_move(step, len(left)), count), sign)
        score = changes[names[0]]
        for name in names:
            walk.toggle(name)
            left.remove(name)
        count -= len(names)
        score = score if len(names) == 1 else walk.score
        yield as_move(action, ", ".join(names), score, direction)
        since = 0 if sign * score.mean > best else since + 1
        best = max(best, sign * score.mean)
        if patience is not None and since >= patience:
            return


def leading(changes: Changes, count: int, sign: int) -> list[str]:
    """The names whose changes score best, each by itself; of equals the first by name."""
    if count == 1:
        return [changes.best()]
    means = np.round(sign * changes.means, 12)  # a hair apart is equal, so that the order of the columns decides nothing
    return [changes.names[k] for k in np.lexsort((np.array(changes.names), -means))[:count]]


def a_move(step: float, left: int) -> int:
    """How many features come or go in a move: a number, or a share of those that are left, rounded down, one at least."""
    return max(1, int(step * left) if isinstance(step, float) and step < 1 else int(step))


def largest(size: float | None, features: int) -> int:
    """The size that is meant: a number, or a share of the features, rounded up; None for all."""
    if size is None:
        return features
    return min(features, int(np.ceil(size * features - 1e-9)) if isinstance(size, float) and size < 1 else int(size))


def as_move(action: str, name: str, score: Score, direction: str) -> Move:
    return Move(action, name, score.features, score.values, direction)


def check_least_one(**settings: float | None) -> None:
    """Sizes, steps and patience are whole numbers from 1, or left out; sizes and steps may be shares between 0 and 1."""
    shares = ("size", "step")
    wrong = []
    for name, value in settings.items():
        share = name in shares and isinstance(value, float) and 0 < value < 1
        if value is not None and not share and (value < 1 or value != int(value)):
            wrong.append(f"{name} must be 1 or more{', or a share between 0 and 1' if name in shares else ''}, not {value}")
    if wrong:
        raise UsageError("; ".join(wrong))
