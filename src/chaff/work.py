"""Work: the seed, the workers and the one parallel loop.

Random streams are named by what they are for (tree 17, shuffle 3, fold 2), never consumed in order, so that a result does
not depend on how many workers there are or on what was computed before.
"""

from __future__ import annotations

import hashlib
import os
import sys
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager, nullcontext
from dataclasses import dataclass
from typing import Any, Generic, Protocol, TypeVar

import numpy as np

from chaff.executors import carried_out, workers_of
from chaff.notebook import notebook_watch

Workers = int | Executor | None
"""Threads of this process, or who takes their place."""

Unit = TypeVar("Unit")
Result = TypeVar("Result")

BLOCKS_A_WORKER = 8

_inside = threading.local()


def silent(stage: str, done: int, of: int) -> None:
    """Who watches a loop inside another one: nobody, in a notebook either."""


class Watch(Protocol):
    """Somebody who wants to know how far a run is: the command line, a notebook, a test."""

    def __call__(self, stage: str, done: int, of: int) -> None: ...


@dataclass(frozen=True)
class Work:
    """How a call is carried out.

    Parameters
    ----------
    seed : int
        One number that fixes every random draw of the call.
    workers : int, Executor or None
        Threads for the outermost parallel loop; None takes every core; an executor takes it in place of threads. Results do not depend
        on it.
    watch : callable or None
        Called as ``watch(stage, done, of)`` while it runs: (stage, 0, 0) when a stage begins, then how many of its units are
        done, of how many.
    executor : concurrent.futures.Executor or None
        Carries out the outermost parallel loop in place of threads of its own: processes, or a cluster's client that speaks
        the same interface. Tasks and what they return must then be picklable, as all of Chaff's are.
    """

    seed: int = 0
    workers: Workers = None
    watch: Watch | None = None
    executor: Executor | None = None

    def __post_init__(self) -> None:
        if isinstance(self.workers, Executor):
            object.__setattr__(self, "executor", self.workers)
            object.__setattr__(self, "workers", None)

    @property
    def threads(self) -> int:
        """How many threads of this process."""
        return self.workers if isinstance(self.workers, int) else os.cpu_count() or 1

    @property
    def at_once(self) -> int:
        """Units that are worked on at a time."""
        return self.threads if self.executor is None else workers_of(self.executor)

    def __reduce__(self) -> tuple[Any, ...]:
        """What travels to another process is the seed; it works alone there, and nobody watches."""
        return Work, (self.seed, 1)

    def tell(self, stage: str, done: int = 0, of: int = 0) -> None:
        watch = self.watch if self.watch is not None or _inside.__dict__.get("stop") is not None else notebook_watch()
        if watch is not None:
            watch(stage, done, of)

    def key(self, *names: object) -> int:
        """A 63-bit number for the stream with these names; equal names give equal numbers on every machine."""
        text = "\x1f".join([str(int(self.seed)), *map(str, names)])
        return int.from_bytes(hashlib.sha256(text.encode()).digest()[:8], "little") >> 1

    def stream(self, *names: object) -> np.random.Generator:
        """A generator of its own for what the names say."""
        return np.random.default_rng(self.key(*names))

    def each(self, task: Callable[[Unit], Result], units: Iterable[Unit], stage: str = "") -> list[Result]:
        """`[task(u) for u in units]` on the workers, in order. Only the outermost loop takes them; BLAS then runs on one
        thread in each, so that two workers never fight over the same two cores. After an error or Ctrl-C no further unit
        begins, in this loop or in one inside it. A task returns what it found and never writes into what it was given;
        `stage` names the loop for whoever watches."""
        todo = list(units)
        stop: threading.Event | None = getattr(_inside, "stop", None)
        if stop is not None or not todo or (self.executor is None and min(self.threads, len(todo)) <= 1):
            return [self._after_task(_unless_stopped(task, u, stop), stage, k, len(todo)) for k, u in enumerate(todo, 1)]
        if self.executor is not None:
            taken = self.executor
            return carried_out(taken, _alone, task, todo, lambda done: self._after_task(None, stage, done, len(todo)))
        stop = threading.Event()
        with one_blas_thread():
            workers = min(self.threads, len(todo))
            pool = ThreadPoolExecutor(workers)
            try:
                blocks = _blocks(todo, max(1, len(todo) // (BLOCKS_A_WORKER * workers)))
                return self._gather([pool.submit(_in_worker, task, b, stop) for b in blocks], stage, len(todo))
            finally:
                stop.set()
                pool.shutdown(wait=True, cancel_futures=True)

    def _gather(self, futures: list[Future[list[Result]]], stage: str, of: int) -> list[Result]:
        """Results of all blocks in order; after an error what has not begun is not begun."""
        out: list[Result] = []
        try:
            for future in futures:
                out += future.result()
                self._after_task(None, stage, len(out), of)
            return out
        finally:
            for future in futures:
                future.cancel()

    def _after_task(self, result: Any, stage: str, done: int, of: int) -> Any:
        if stage:
            self.tell(stage, done, of)
        return result


@dataclass(frozen=True)
class Task(Generic[Result]):
    """A module's own function with everything but its last argument, the unit; picklable as long as what it is given is."""

    function: Callable[..., Result]
    given: tuple[Any, ...]

    def __call__(self, unit: Any) -> Result:
        return self.function(*self.given, unit)


def task(function: Callable[..., Result], *given: Any) -> Task[Result]:
    """A task for `Work.each`."""
    return Task(function, given)


class _Stopped(Exception):
    """Ends a worker whose result nobody waits for any more."""


def _unless_stopped(fn: Callable[[Any], Any], unit: Any, stop: threading.Event | None) -> Any:
    if stop is not None and stop.is_set():
        raise _Stopped
    return fn(unit)


def _blocks(units: list[Any], size: int) -> list[list[Any]]:
    """Some units together: handing out thousands of small ones singly costs more than they do."""
    return [units[k : k + size] for k in range(0, len(units), size)]


def _in_worker(fn: Callable[[Any], Any], units: list[Any], stop: threading.Event) -> list[Any]:
    _inside.stop = stop
    try:
        return [_unless_stopped(fn, u, stop) for u in units]
    finally:
        _inside.stop = None


def _alone(task: Callable[[Any], Any], units: list[Any]) -> list[Any]:
    """Units in somebody else's worker: loops inside it are plain, BLAS runs on one thread."""
    with one_blas_thread():
        return _in_worker(task, units, threading.Event())


@contextmanager
def one_blas_thread() -> Iterator[None]:
    """BLAS runs on one thread: in workers, and for many small matrices in turn, where two threads cost more than they save.

    SciPy's own BLAS is loaded with its linear algebra only, which takes longer than many commands; until then a variable tells it.
    """
    if LINEAR_ALGEBRA in sys.modules:
        with _blas().limit(limits=1, user_api="blas"):
            yield
        return
    with _unloaded:
        _before.append(_before[0] if _before else os.environ.get(THREADS))
        os.environ[THREADS] = "1"
    try:
        with _blas().limit(limits=1, user_api="blas"):
            yield
    finally:
        with _unloaded:
            before = _before.pop()
            if not _before:  # the last of those that run side by side
                os.environ.pop(THREADS, None)
                os.environ |= {THREADS: before} if before is not None else {}
        if LINEAR_ALGEBRA in sys.modules:  # loaded meanwhile: from here on it has the threads of NumPy's
            libraries = [lib for lib in _blas().lib_controllers if lib.user_api == "blas"]
            threads = max(lib.num_threads for lib in libraries)
            for lib in libraries:
                lib.set_num_threads(threads)


SMALL = 1e9  # products of a table with itself, up to which BLAS is quicker on one thread


def blas_for(rows: int, columns: int) -> AbstractContextManager[None]:
    """One BLAS thread for what a small table asks of it, as many as there are for a large one."""
    return one_blas_thread() if rows * columns**2 < SMALL else nullcontext()


LINEAR_ALGEBRA, THREADS = "scipy.linalg", "OPENBLAS_NUM_THREADS"
_controllers: dict[bool, Any] = {}
_unloaded, _before = threading.Lock(), list[str | None]()
"""What the variable held, once for each context that is open while SciPy's BLAS is not loaded."""


def _blas() -> Any:
    """The BLAS libraries that are loaded; looking them up costs milliseconds, so it is done once for NumPy's, and once with SciPy's."""
    loaded = LINEAR_ALGEBRA in sys.modules
    if loaded not in _controllers:
        from threadpoolctl import ThreadpoolController

        _controllers[loaded] = ThreadpoolController()
    return _controllers[loaded]
