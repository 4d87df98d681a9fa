"""Work: the seed, the workers and the one parallel loop.

Random streams are named by what they are for (tree 17, shuffle 3, fold 2), never consumed in order, so that a result does
not depend on how many workers there are or on what was computed before.
"""

from __future__ import annotations

import hashlib
import os
import threading
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

import numpy as np

Unit = TypeVar("Unit")
Result = TypeVar("Result")

_inside = threading.local()


class Watch(Protocol):
    """Somebody who wants to know how far a run is: the command line, a notebook, a test."""

    def __call__(self, stage: str, message: str) -> None: ...


@dataclass(frozen=True)
class Work:
    """How a call is carried out.

    Parameters
    ----------
    seed : int
        One number that fixes every random draw of the call.
    workers : int or None
        Threads for the outermost parallel loop; None takes every core. Results do not depend on it.
    watch : callable or None
        Called as ``watch(stage, message)`` when something worth telling has happened.
    """

    seed: int = 0
    workers: int | None = None
    watch: Watch | None = None

    def tell(self, stage: str, message: str) -> None:
        if self.watch is not None:
            self.watch(stage, message)

    def key(self, *names: object) -> int:
        """A 63-bit number for the stream with these names; equal names give equal numbers on every machine."""
        text = "\x1f".join([str(int(self.seed)), *map(str, names)])
        return int.from_bytes(hashlib.sha256(text.encode()).digest()[:8], "little") >> 1

    def stream(self, *names: object) -> np.random.Generator:
        """A generator of its own for what the names say."""
        return np.random.default_rng(self.key(*names))

    def each(self, fn: Callable[[Unit], Result], units: Iterable[Unit]) -> list[Result]:
        """`[fn(u) for u in units]` on the workers, in order. Only the outermost loop takes them; BLAS then runs on one
        thread in each, so that two workers never fight over the same two cores. After an error or Ctrl-C no further unit
        begins, in this loop or in one inside it."""
        todo = list(units)
        workers = min(self.workers or os.cpu_count() or 1, len(todo))
        stop: threading.Event | None = getattr(_inside, "stop", None)
        if workers <= 1 or stop is not None:
            return [_unless_stopped(fn, u, stop) for u in todo]
        stop = threading.Event()
        with _blas().limit(limits=1, user_api="blas"):
            pool = ThreadPoolExecutor(workers)
            try:
                return list(pool.map(lambda u: _in_worker(fn, u, stop), todo))
            finally:
                stop.set()
                pool.shutdown(wait=True, cancel_futures=True)


class _Stopped(Exception):
    """Ends a worker whose result nobody waits for any more."""


def _unless_stopped(fn: Callable[[Any], Any], unit: Any, stop: threading.Event | None) -> Any:
    if stop is not None and stop.is_set():
        raise _Stopped
    return fn(unit)


def _in_worker(fn: Callable[[Any], Any], unit: Any, stop: threading.Event) -> Any:
    _inside.stop = stop
    try:
        return _unless_stopped(fn, unit, stop)
    finally:
        _inside.stop = None


_controller: list[Any] = []


def _blas() -> Any:
    """Looking the BLAS libraries up costs milliseconds, so it is done once per process."""
    if not _controller:
        import scipy.linalg.blas  # noqa: F401  its library has to be loaded before it can be found and limited
        from threadpoolctl import ThreadpoolController

        _controller.append(ThreadpoolController())
    return _controller[0]
