"""What a command finds around it - streams that cannot be written, a signal to end, settings of libraries - made harmless while it runs."""

from __future__ import annotations

import os
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext, suppress
from typing import Any


@contextmanager
def surroundings() -> Iterator[list[int]]:
    """Gives the signals that asked to end, of which there is one at most; whoever called gets everything back as it was."""
    requested: list[int] = []

    def end(number: int, _: object) -> None:
        requested.append(number)
        raise KeyboardInterrupt

    main_thread = threading.current_thread() is threading.main_thread()
    before = signal.signal(signal.SIGTERM, end) if main_thread else None
    stderr = sys.stderr
    _replace_unknown_letters()
    if stderr is not None:
        sys.stderr = Forgiving(stderr)
    numpy = sys.modules.get("numpy")  # whoever embeds the command may have told NumPy to raise at every overflow
    try:
        with numpy.errstate(all="ignore") if numpy is not None else nullcontext():
            yield requested
    finally:
        sys.stderr = stderr
        if before is not None:
            signal.signal(signal.SIGTERM, before)


def set_up_process() -> None:
    """Settings of libraries that would end them at import, and that a command never needs."""
    os.environ["MPLBACKEND"] = "agg"


def flush_all() -> None:
    """What is left in a buffer, so that its end is no traceback."""
    for stream in (sys.stdout, sys.stderr):
        try:
            if stream is not None:
                stream.flush()
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
        except (OSError, ValueError):
            pass


def _replace_unknown_letters() -> None:
    """A letter that the terminal does not know, or a byte that is none, becomes a question mark, not the end of the run."""
    for stream in (sys.stdin, sys.stdout, sys.stderr):
        if stream is not None and hasattr(stream, "reconfigure"):
            with suppress(OSError, ValueError):
                stream.reconfigure(errors="replace")


class Forgiving:
    """Progress and errors that cannot be written (a full disk, a closed end) end no run."""

    def __init__(self, stream: Any) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        with suppress(OSError):
            self._stream.write(text)
        return len(text)

    def flush(self) -> None:
        with suppress(OSError):
            self._stream.flush()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)
