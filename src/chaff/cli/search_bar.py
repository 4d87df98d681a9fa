"""How far a search is, in a terminal: a bar that moves; where nobody watches one, a line now and then."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from chaff.visible import visible

if TYPE_CHECKING:
    from chaff.cli.console import Show
    from chaff.methods.search.progress import Progress

EVERY, EVERY_PIPED = 0.1, 10.0  # seconds
WIDE = 18


class SearchBar:
    """Watches a search for a `Show`."""

    def __init__(self, show: Show) -> None:
        self.show = show
        self._last = 0.0
        self._phase = ""

    def __call__(self, progress: Progress) -> None:
        now, fresh = time.monotonic(), progress.phase != self._phase
        live = self.show.progress.is_terminal
        if not fresh and now - self._last < (EVERY if live else EVERY_PIPED):
            return
        self._last, self._phase = now, progress.phase
        if live:
            self.show.moving(f"{bar(progress)} {progress}")
        else:
            self.show.progress.print(visible(f"{self.show.seconds()}  {progress}"), markup=False, soft_wrap=True)


def bar(progress: Progress) -> str:
    """`━━━━━━────────────` by what is left of the time; nothing where that cannot be known."""
    if progress.left is None:
        return ""
    share = progress.seconds / max(progress.seconds + progress.left, 1e-9)
    done = round(WIDE * min(share, 1.0))
    return "━" * done + "─" * (WIDE - done)
