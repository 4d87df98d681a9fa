"""Strategy: a way to walk through sets of features. Its moves are yielded one by one, so that stopping costs nothing.

How far a search is, for whoever watches.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Protocol, runtime_checkable

import numpy as np

from chaff.choices import Registry
from chaff.errors import UsageError
from chaff.evaluate.limits import Spent
from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.walk import StepScores, Walk
from chaff.results.score import Score
from chaff.results.trail import Move, Trail
from chaff.work import Work


@dataclass(frozen=True)
class Progress:
    """One look at a running search.

    >>> print(Progress("forward", 4, 4, 0.512, 0.512, 210, 3, 1.5, 2.4))
    forward · move 4 · best 0.512 · 4 features · 210 sets scored, 3 from cache · about 2 s left
    """

    phase: str
    """The strategy, and where it walks: on all rows, or inside which fold."""
    move: int
    size: int
    """Features after the last move."""
    score: float
    """Of the last move."""
    best: float
    evaluations: int
    saved: int
    """Sets that were known already."""
    seconds: float
    left: float | None
    """Seconds that are left by the strategy's own count of what is to come; None where it cannot know."""

    def __str__(self) -> str:
        from chaff.results.digits import score

        left = f" · about {self.left:.0f} s left" if self.left is not None and self.left >= 1 else ""
        size = f"{self.size} feature{'s' * (self.size != 1)}"
        counted = f"{self.evaluations:,} sets scored, {self.saved:,} from cache"
        return f"{self.phase} · move {self.move:,} · best {score(self.best)} · {size} · {counted}{left}"


Watcher = Callable[[Progress], None]


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


@runtime_checkable
class EstimatesEvaluations(Protocol):
    """A strategy's power of saying beforehand about how many sets it will score."""

    def most_evaluations(self, features: int, pinned: int) -> int: ...


def as_strategy(given: Any) -> Strategy:
    """A strategy from an object, a name such as "forward", or a mapping such as ``{"name": "forward", "size": 10}``."""
    strategy: Strategy = STRATEGIES.make(given)
    if not hasattr(strategy, "moves"):
        raise UsageError(f"{given!r} is no strategy: it lacks moves(scorer, pinned, work)")
    return strategy


def trail_of(
    strategy: Strategy, scorer: SubsetScorer, pinned: frozenset[str], work: Work, method: str = "search", watcher: Watcher | None = None,
    phase: str = "",
) -> Trail:  # fmt: skip
    """Everything that a strategy goes through, as a trail; what it went through until it ran out of time or evaluations.

    watcher : told of every move; `phase` is what it is told to be looking at.
    """
    metric = scorer.metric
    moves, stopped = walked(strategy, scorer, pinned, work, watcher, phase or strategy.name)
    return Trail(
        method,
        tuple(moves),
        scorer.features,
        metric.name,
        metric.higher_is_better,
        scorer.test_share,
        (f"{scorer.folds.how}, {metric.label}", *strategy.notes(scorer), *([stopped] if stopped else [])),
        stopped,
        preferred_of(moves, scorer),
    )


def path_of(strategy: Strategy, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Trail:
    """The trail of a strategy. One that leaps between sizes is followed by backward steps from its best set, so that there is a set
    of every smaller size to choose."""
    trail = trail_of(strategy, scorer, pinned, work)
    if not getattr(strategy, "leaps", False) or trail.stopped or not trail.moves:
        return trail
    best = trail.moves[trail.best_move()].features
    left = [f for f in scorer.features if f in best - pinned]
    least = max(0 if pinned else 1, getattr(strategy, "smallest", 1) - len(pinned))
    down: list[Move] = []
    try:
        down.extend(steps(scorer.walk(best), scorer, left, len(left) - least, "backward", None))
    except Spent as spent:
        return replace(trail, moves=(*trail.moves, *down), stopped=str(spent))
    return replace(trail, moves=(*trail.moves, *down))


def walked(
    strategy: Strategy, scorer: SubsetScorer, pinned: frozenset[str], work: Work, watcher: Watcher | None, phase: str
) -> tuple[list[Move], str]:
    """(moves, why it stopped before its end; empty where it came to it)."""
    moves: list[Move] = []
    most = strategy.most_evaluations(len(scorer.features), len(pinned)) if isinstance(strategy, EstimatesEvaluations) else None
    sign, best = 1.0 if scorer.metric.higher_is_better else -1.0, -np.inf
    tally = scorer.tally
    try:
        for move in strategy.moves(scorer, pinned, work):
            moves.append(move)
            score = float(move.values.mean())
            best = max(best, sign * score)
            if watcher is not None:
                done = tally.evaluations + tally.saved
                left = None if most is None or not done else max(most - done, 0) * tally.seconds / done
                watcher(
                    Progress(phase, len(moves), len(move.features), score, sign * best, tally.evaluations, tally.saved, tally.seconds, left)
                )
    except Spent as spent:
        come_through, known = {m.features for m in moves}, scorer.known
        rest = [s for s in tally.scored if s not in come_through and s]
        moves += [as_move("try", "", known[s], strategy.name) for s in rest]  # of the step that was not finished
        return moves, str(spent)
    return moves, ""


def steps(
    walk: Walk, scorer: SubsetScorer, left: list[str], count: int, direction: str, patience: int | None, step: float = 1
) -> Iterator[Move]:
    """The best changes of those that are `left`, one or several at a time, again and again."""
    action = "add" if direction == "forward" else "remove"
    sign = 1 if scorer.metric.higher_is_better else -1
    best, since = -np.inf, 0
    while count > 0:
        open_to = left if direction == "backward" else scorer.affordable_steps(walk.features, left)
        if not open_to:
            return
        changes = walk.changes(open_to)
        names = []
        for name in leading(changes, min(a_move(step, len(left)), count), scorer, direction == "backward"):
            if direction == "backward" or scorer.affordable(walk.features | {name}):
                walk.toggle(name)
                left.remove(name)
                names.append(name)
        count -= len(names)
        score = changes[names[0]] if len(names) == 1 else walk.score
        yield as_move(action, ", ".join(names), score, direction)
        since = 0 if sign * score.mean > best else since + 1
        best = max(best, sign * score.mean)
        if patience is not None and since >= patience:
            return


def best_of(changes: StepScores, scorer: SubsetScorer, leaving: bool) -> str:
    """The name whose change scores best. Of equals the one that scores best alone comes, and the one that scores worst alone goes."""
    tied = changes.tied()
    return tied[0] if len(tied) == 1 else _by_single_score(tied, scorer, leaving)[0]


def _by_single_score(names: Sequence[str], scorer: SubsetScorer, leaving: bool) -> list[str]:
    single_scores = scorer.single_scores(names)
    return sorted(names, key=lambda f: (single_scores[f] if leaving else -single_scores[f], f))


def leading(changes: StepScores, count: int, scorer: SubsetScorer, leaving: bool) -> list[str]:
    """The names whose changes score best, each by itself; of equals as in `best_of`."""
    if count == 1:
        return [best_of(changes, scorer, leaving)]
    sign = 1 if scorer.metric.higher_is_better else -1
    means = dict(zip(changes.names, np.round(sign * changes.means, 12).tolist(), strict=True))  # a hair apart is equal
    order = sorted(changes.names, key=lambda f: (-means[f], f))
    if len(order) > count and means[order[count - 1]] == means[order[count]]:
        last = means[order[count]]
        ahead, equal = [f for f in order if means[f] > last], [f for f in order if means[f] == last]
        order = ahead + _by_single_score(equal, scorer, leaving)
    return order[:count]


def preferred_of(moves: Sequence[Move], scorer: SubsetScorer) -> dict[int, int]:
    """Size → the move to be taken where several sets of that size score best alike: the one whose features score best alone."""
    sign = 1.0 if scorer.metric.higher_is_better else -1.0
    best: dict[int, tuple[float, dict[frozenset[str], int]]] = {}
    for k, move in enumerate(moves):
        mean = round(sign * float(move.values.mean()), 12)
        top, sets = best.get(len(move.features), (-np.inf, {}))
        if mean > top:
            best[len(move.features)] = (mean, {move.features: k})
        elif mean == top:
            sets.setdefault(move.features, k)
    out = {}
    for size, (_, sets) in best.items():
        if len(sets) > 1:
            apart = sorted(frozenset.union(*sets) - frozenset.intersection(*sets))
            single_scores = scorer.free().single_scores(apart)
            out[size] = max(sets.values(), key=lambda k: (sum(single_scores[f] for f in apart if f in moves[k].features), -k))
    return out


def a_move(step: float, left: int) -> int:
    """How many features come or go in a move: a number, or a share of those that are left, rounded down, one at least."""
    return max(1, int(step * left) if isinstance(step, float) and step < 1 else int(step))


def largest(size: float | None, features: int) -> int:
    """The size that is meant: a number, or a share of the features, rounded up; None for all."""
    if size is None:
        return features
    return min(features, int(np.ceil(size * features - 1e-9)) if isinstance(size, float) and size < 1 else int(size))


def as_move(action: str, name: str, score: Score, direction: str, **facts: Any) -> Move:
    return Move(action, name, score.features, score.values, direction, facts)


def steps_evaluations(free: int, moves: int) -> int:
    """Sets that are scored in so many moves of one feature each, of `free` to begin with."""
    moves = max(0, min(moves, free))
    return moves * free - moves * (moves - 1) // 2


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


def check_sizes(strategy: Any, features: int, pinned: Collection[str]) -> None:
    """Raises `UsageError` for a size that is larger than the table or smaller than what is pinned in."""
    for name in ("size", "smallest"):
        wanted = getattr(strategy, name, None)
        if wanted is None or isinstance(wanted, bool):
            continue
        if wanted > features:
            raise UsageError(f"{strategy.name}: {name} {wanted} is more than the {features} features there are")
        if name == "size" and largest(wanted, features) < len(pinned):
            raise UsageError(f"{strategy.name}: size {wanted} is less than the {len(pinned)} features that are pinned in")
    if getattr(strategy, "smallest", 1) > largest(getattr(strategy, "size", None), features):
        raise UsageError(f"{strategy.name}: smallest {strategy.smallest} is more than size {strategy.size}")
