"""Paths through sets of features: forward, backward, and the better set of each size."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.walk import Walk
from chaff.results.score import Score
from chaff.results.trail import Move, Trail


@dataclass(frozen=True)
class Paths:
    """How to walk: which directions, from which pinned features, and when to stop."""

    strategy: str
    pinned: frozenset[str] = frozenset()
    size: int | None = None
    patience: int | None = None

    def trail(self, scorer: SubsetScorer, name: str = "search") -> Trail:
        moves: list[Move] = []
        if self.strategy in ("forward", "both"):
            moves += self._forward(scorer)
        if self.strategy in ("backward", "both"):
            moves += self._backward(scorer)
        metric = scorer.metric
        return Trail(
            name,
            tuple(moves),
            scorer.features,
            metric.name,
            metric.higher_is_better,
            scorer.test_share,
            (f"{scorer.folds.how}, {metric.label}",),
        )

    def _forward(self, scorer: SubsetScorer) -> list[Move]:
        walk = scorer.walk(self.pinned)
        left = [f for f in scorer.features if f not in self.pinned]
        most = min(self.size or len(scorer.features), len(scorer.features))
        moves = [as_move("start", "", walk.score, "forward")] if self.pinned else []
        return moves + self._steps(walk, scorer, left, most - len(self.pinned), "add", "forward")

    def _backward(self, scorer: SubsetScorer) -> list[Move]:
        walk = scorer.walk(scorer.features)
        left = [f for f in scorer.features if f not in self.pinned]
        steps = len(left) - (0 if self.pinned else 1)
        first = as_move("start", "", walk.score, "backward")
        return [first, *self._steps(walk, scorer, left, steps, "remove", "backward")]

    def _steps(self, walk: Walk, scorer: SubsetScorer, left: list[str], steps: int, action: str, direction: str) -> list[Move]:
        moves: list[Move] = []
        sign = 1 if scorer.metric.higher_is_better else -1
        best, since = -np.inf, 0
        for _ in range(max(steps, 0)):
            changes = walk.changes(left)
            name = changes.best()
            score = changes[name]
            walk.toggle(name)
            left.remove(name)
            moves.append(as_move(action, name, score, direction))
            since = 0 if sign * score.mean > best else since + 1
            best = max(best, sign * score.mean)
            if self.patience is not None and since >= self.patience:
                break
        return moves


def as_move(action: str, name: str, score: Score, direction: str) -> Move:
    return Move(action, name, score.features, score.values, direction)
