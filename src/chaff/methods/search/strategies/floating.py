"""Floating search: after every step, steps back as long as they beat the best set of that size."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar, Literal

from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategies.backward import Backward
from chaff.methods.search.strategies.forward import Forward
from chaff.methods.search.strategy import as_move, best_of, check_least_one, largest
from chaff.results.trail import Move
from chaff.work import Work

STRICTLY = 1e-12  # by which a step back must beat what was known, so that nothing goes round in circles


@dataclass(frozen=True)
class Floating:
    """Forward (or backward) with conditional exclusions (inclusions).

    Parameters
    ----------
    size : int, float or None
        Largest set (forward) or smallest set (backward) to go to: a number, or a share of the features below 1; None for all the way.
    direction : "forward" or "backward"
        From no feature upwards, or from all of them downwards.
    patience : int or None
        Stop after so many steps in a row, steps back not counted, that beat nothing seen so far.

    Notes
    -----
    The plain path of the same direction is walked first and its best set of each size kept beside the floating one's, since floating
    can end below it. A step back is taken only where it beats the best set known of that size. Source: Pudil, Novovičová and
    Kittler, 1994.

    Examples
    --------
    >>> import chaff
    >>> chaff.Search(strategy="floating").strategy
    Floating(size=None, direction='forward', patience=None)
    """

    size: int | float | None = None
    direction: Literal["forward", "backward"] = "forward"
    patience: int | None = None

    name: ClassVar[str] = "floating"

    def __post_init__(self) -> None:
        check_least_one(size=self.size, patience=self.patience)
        if self.direction not in ("forward", "backward"):
            raise UsageError(f"direction must be 'forward' or 'backward', not {self.direction!r}")

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        forward = self.direction == "forward"
        plain = Forward(self.size, self.patience) if forward else Backward(self.patience, self.size)
        sign = 1 if scorer.metric.higher_is_better else -1
        known: dict[int, float] = {}
        for move in plain.moves(scorer, pinned, work):
            size, value = len(move.features), sign * float(move.values.mean())
            known[size] = max(known.get(size, -float("inf")), value)
            yield move
        yield from self._float(scorer, pinned, known, sign)

    def _float(self, scorer: SubsetScorer, pinned: frozenset[str], known: dict[int, float], sign: int) -> Iterator[Move]:
        """Steps one way, and back where that beats what is `known` of a size."""
        forward, free = self.direction == "forward", [f for f in scorer.features if f not in pinned]
        walk = scorer.walk(pinned if forward else scorer.features)
        end = largest(self.size, len(scorer.features)) if forward or self.size is not None else max(1, len(pinned))
        best, since = -float("inf"), 0
        while len(walk.features) < end if forward else len(walk.features) > max(end, len(pinned)):
            here = walk.features
            on = [f for f in free if (f in here) != forward]
            on = scorer.affordable_steps(here, on) if forward else on
            if not on:
                return
            changes = walk.changes(on)
            name = best_of(changes, scorer, not forward)
            score = changes[name]
            walk.toggle(name)
            value = sign * score.mean
            known[len(walk.features)] = max(known.get(len(walk.features), -float("inf")), value)
            yield as_move("add" if forward else "remove", name, score, "floating")
            since = 0 if value > best else since + 1
            best = max(best, value)
            while True:
                here = walk.features
                back = [f for f in free if (f in here) == forward and f != name]
                back = back if forward else scorer.affordable_steps(here, back)
                if not back:
                    break
                changes = walk.changes(back)
                other = best_of(changes, scorer, forward)
                size = len(walk.features) + (-1 if forward else 1)
                if sign * changes[other].mean <= known.get(size, -float("inf")) + STRICTLY:
                    break
                score = changes[other]
                walk.toggle(other)
                known[size], best = sign * score.mean, max(best, sign * score.mean)
                yield as_move("remove" if forward else "add", other, score, "floating")
            if self.patience is not None and since >= self.patience:
                return

    def most_evaluations(self, features: int, pinned: int) -> int:
        plain = Forward(self.size) if self.direction == "forward" else Backward(size=self.size)
        return 2 * plain.most_evaluations(features, pinned)  # about: the steps back are few

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()
