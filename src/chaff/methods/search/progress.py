"""How far a search is, for whoever watches."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


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
