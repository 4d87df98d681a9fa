"""Swap: exchange a feature that is in for one that is out, as long as that helps."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from chaff.errors import UsageError
from chaff.evaluate.scorer import SubsetScorer
from chaff.methods.search.strategies.forward import Forward
from chaff.methods.search.strategy import as_move, check_least_one, largest
from chaff.results.score import Score
from chaff.results.trail import Move
from chaff.work import Work

STRICTLY = 1e-12


@dataclass(frozen=True)
class Swap:
    """Forward to a size, then the best exchange of two features again and again until none gains.

    Parameters
    ----------
    size : int or float
        Features in the set: a number, or a share of them below 1 (rounded up).
    exchanges : int or None
        At most so many.

    Notes
    -----
    Each exchange looks at every pair of one that is in and one that is out. Source: Fedorov, 1972 (exchange in designs).

    Examples
    --------
    >>> import chaff
    >>> chaff.Search(strategy=chaff.Swap(5)).strategy.size
    5
    """

    size: int | float = 5
    exchanges: int | None = None

    name: ClassVar[str] = "swap"

    def __post_init__(self) -> None:
        check_least_one(size=self.size, exchanges=self.exchanges)

    def moves(self, scorer: SubsetScorer, pinned: frozenset[str], work: Work) -> Iterator[Move]:
        if largest(self.size, len(scorer.features)) < len(pinned):
            raise UsageError(f"swap: {len(pinned)} features are pinned in, more than a size of {self.size}")
        last = None
        for move in Forward(self.size).moves(scorer, pinned, work):
            last = move
            yield move
        if last is None:
            return
        sign = 1 if scorer.metric.higher_is_better else -1
        current, value = last.features, sign * float(last.values.mean())
        done = 0
        while self.exchanges is None or done < self.exchanges:
            score, names = _best_exchange(scorer, current, pinned, sign)
            if score is None or sign * score.mean <= value + STRICTLY:
                return
            current, value, done = score.features, sign * score.mean, done + 1
            yield as_move("exchange", names, score, "swap")

    def notes(self, scorer: SubsetScorer) -> tuple[str, ...]:
        return ()


def _best_exchange(scorer: SubsetScorer, current: frozenset[str], pinned: frozenset[str], sign: int) -> tuple[Score | None, str]:
    """The best set that differs by one exchange, and its words. Of equals the one in which the stronger comes for the weaker, by their
    scores alone; then the first by name."""
    outside, best = sorted(set(scorer.features) - current), -float("inf")
    equal: list[tuple[str, str, Score]] = []
    for gone in sorted(current - pinned):
        open_to = [f for f in outside if scorer.affordable(current - {gone} | {f})]
        if not open_to:
            continue
        changes = scorer.walk(current - {gone}).changes(open_to)
        tied = changes.tied()
        value = sign * changes[tied[0]].mean
        if value > best + STRICTLY:
            best, equal = value, []
        if value >= best - STRICTLY:
            equal += [(gone, name, changes[name]) for name in tied]
    if not equal:
        return None, ""
    names = sorted({f for gone, name, _ in equal for f in (gone, name)})
    single_scores = scorer.single_scores(names) if len(equal) > 1 else dict.fromkeys(names, 0.0)
    gone, name, score = min(equal, key=lambda e: (single_scores[e[0]] - single_scores[e[1]], e[0], e[1]))
    return score, f"{gone} → {name}"
