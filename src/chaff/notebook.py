"""How far a call is, below the cell of a notebook that runs it; gone when the cell is done."""

from __future__ import annotations

import html
import sys
import time
from collections.abc import Callable
from typing import Any

EVERY = 0.2  # seconds between two looks


class NotebookBar:
    """One line with a bar: what runs, how much of it is done, about how long it will take.

    Parameters
    ----------
    display : callable
        As of IPython: shows a thing, and gives a handle that shows another in its place.
    as_html : callable
        Makes a thing that is shown as HTML.
    """

    def __init__(self, display: Callable[..., Any], as_html: Callable[[str], Any]) -> None:
        self._display, self._as_html = display, as_html
        self._handle: Any = None
        self._stage, self._began, self._shown = "", 0.0, 0.0

    def watch(self, stage: str, done: int = 0, of: int = 0) -> None:
        now = time.monotonic()
        if stage != self._stage:
            self._stage, self._began = stage, now
        elif now - self._shown < EVERY and done < of:
            return
        self._shown = now
        passed = now - self._began
        left = f", about {passed * (of - done) / done:.0f} s left" if 0 < done < of and passed > 1.0 else ""
        bar = f'<progress value="{done}" max="{of}" style="vertical-align: middle"></progress> ' if of else ""
        self._show(f"{bar}{html.escape(stage)}{f' {done:,} of {of:,}' if of else ' …'}{left}")

    def _show(self, text: str) -> None:
        thing = self._as_html(f"<small>{text}</small>" if text else "")
        if self._handle is None:
            self._handle = self._display(thing, display_id=True)
        else:
            self._handle.update(thing)

    def close(self, *_: Any) -> None:
        """Nothing is left of it."""
        if self._handle is not None:
            self._show("")
            self._handle = None


_bars: list[NotebookBar] = []


def notebook_watch() -> Callable[[str, int, int], None] | None:
    """What shows progress in a notebook; None anywhere else."""
    if "ipykernel" not in sys.modules:
        return None
    if not _bars:
        from IPython import get_ipython  # type: ignore[import-not-found, unused-ignore]
        from IPython.display import HTML, display  # type: ignore[import-not-found, unused-ignore]

        shell = get_ipython()
        if shell is None:
            return None
        _bars.append(NotebookBar(display, HTML))
        shell.events.register("post_run_cell", _bars[0].close)
    return _bars[0].watch
