"""Where a command's time went, by its stages."""

from __future__ import annotations

import time
from dataclasses import dataclass, field

BEFORE = "start and reading"
AFTER = "writing"


@dataclass
class Stopwatch:
    """Seconds by stage, in the order in which they began."""

    now: str = BEFORE
    since: float = field(default_factory=time.perf_counter)
    spent: dict[str, float] = field(default_factory=dict)

    def turn(self, stage: str) -> None:
        """What was going on has ended; `stage` begins."""
        here = time.perf_counter()
        self.spent[self.now] = self.spent.get(self.now, 0.0) + here - self.since
        self.now, self.since = stage, here

    def rows(self) -> list[tuple[str, str, str]]:
        """(stage, seconds, share), the whole last."""
        self.turn(self.now)
        whole = sum(self.spent.values())
        text = [(stage, f"{s:.2f}", f"{s / whole:.0%}" if whole > 0 else "") for stage, s in self.spent.items()]
        return [*text, ("together", f"{whole:.2f}", "")]
