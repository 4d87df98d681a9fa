"""Cluster: the workers of a Dask scheduler, as an executor. Needs the extra ``chaff-select[cluster]``."""

from __future__ import annotations

import contextlib
import importlib
import logging
import os
import signal
import socket
import sys
import threading
import warnings
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, Future
from typing import Any
from urllib.parse import urlsplit

import numpy as np

from chaff.errors import DataError, UsageError, WorkerError

PATIENCE = 10.0  # seconds that a scheduler may take to answer
SMALL = 1 << 20  # bytes that may travel with each unit
REACHED = 1.0  # seconds that a worker may take to be reached
RETRIES = 3  # of a unit whose worker died


class Cluster(Executor):
    """Workers that a Dask scheduler has, for ``workers=``, ``executor=`` or ``chaff.Work(executor=…)``.

    Tasks carry where the data lies, not the data, where a table is on disk: every worker has to see the same files. A worker that dies is
    replaced by another one, and the answer is the same.

    Parameters
    ----------
    address : str
        Of the scheduler, such as ``tcp://10.0.0.7:8786``.
    patience : float
        Seconds that it may take to answer.

    Raises
    ------
    UsageError
        When Dask is not installed, or workers have another version of Chaff.
    WorkerError
        When nobody answers, or there is no worker.

    Examples
    --------
    >>> import chaff
    >>> cluster = chaff.Cluster("tcp://10.0.0.7:8786")  # doctest: +SKIP
    >>> run = chaff.select(table, workers=cluster)  # doctest: +SKIP
    """

    def __init__(self, address: str, *, patience: float = PATIENCE) -> None:
        self.address, self._known = address, 1
        with _interrupt_not_lost():
            self._connect(patience)
        self._executor = self.client.get_executor(pure=False, retries=RETRIES)

    def _connect(self, patience: float) -> None:
        try:
            distributed: Any = importlib.import_module("distributed")  # untyped
        except ImportError:
            raise UsageError("a cluster needs Dask, which is not installed: pip install 'chaff-select[cluster]'") from None
        address = self.address
        for name in ("distributed", "distributed.client", "distributed.core", "distributed.comm", "distributed.scheduler"):
            logging.getLogger(name).setLevel(logging.CRITICAL)  # what goes wrong is said once, by us
        try:
            self.client: Any = distributed.Client(address, timeout=patience, set_as_default=False)
        except (OSError, TimeoutError, ValueError, TypeError) as error:
            raise WorkerError(
                f"no response from {address} in {patience:g} s ({type(error).__name__}); is the scheduler running?"
            ) from error
        try:
            self._check()
        except BaseException:
            self.shutdown()
            raise
        # What workers found comes straight from them where they can be reached, and not through the scheduler.
        self.client.direct_to_workers = all(_reached(worker) for worker in self._threads())

    @property
    def workers(self) -> int:
        """Threads of all workers together, as they were when the scheduler last answered."""
        if self.serves():
            self._known = sum(self._threads().values())
        return self._known

    def _threads(self) -> dict[str, int]:
        """Threads of each worker; an error where the scheduler does not answer in time."""
        if self.client.status != "running":
            raise TimeoutError("no longer connected")
        scheduler: Any = self.client.scheduler
        return dict(self.client.sync(scheduler.ncores, callback_timeout=PATIENCE))

    def _check(self) -> None:
        if not self._threads():
            raise WorkerError(f"the scheduler at {self.address} has no worker")
        own = _version()
        for worker, result in self._call_scheduler(_version).items():
            if result != own:
                here, there = (" on Python ".join(v) for v in (own, result))
                raise UsageError(f"worker {worker} has Chaff {there}, here is {here}: install the same on both")

    def _call_scheduler(self, function: Callable[..., Any], *given: Any) -> dict[str, Any]:
        """What each worker answers."""
        result = self.client.run(function, *given, on_error="return")
        for worker, answer in result.items():
            if isinstance(answer, ImportError):
                raise UsageError(f"worker {worker} cannot import Chaff ({answer}): install it there") from answer
            if isinstance(answer, BaseException):
                raise WorkerError(f"worker {worker} failed: {answer}") from answer
        return dict(result)

    def check_sees(self, paths: Sequence[str]) -> None:
        """Refuse files that a worker does not see as they are here.

        Raises
        ------
        DataError
            Naming the worker and the file.
        """
        here = _sizes(list(paths))
        for worker, there in self._call_scheduler(_sizes, list(paths)).items():
            for path, size in there.items():
                if size != here[path]:
                    what = "does not see" if size is None else "sees another"
                    raise DataError(f"worker {worker} {what} {path}: the data has to lie where every worker finds it")

    def submit(self, fn: Callable[..., Any], /, *given: Any, **named: Any) -> Future[Any]:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # that units are large is known: they are what there is to work on
            future: Future[Any] = self._executor.submit(fn, *given, **named)
        return future

    def share(self, packed: bytes) -> Any:
        """Bring something to all workers once, for many units; small things go with each unit."""
        if len(packed) < SMALL:
            return packed
        return self.client.scatter(np.frombuffer(packed, np.uint8), hash=True, broadcast=True)  # numbers hash six times as fast as bytes

    def serves(self) -> bool:
        """Whether the scheduler still answers and has workers: what was lost can then be tried again."""
        try:
            return bool(self._threads())
        except Exception:
            return False

    def pack(self, task: Any) -> bytes:
        """A task in bytes; also one whose model was defined in a notebook."""
        import cloudpickle

        packed: bytes = cloudpickle.dumps(task)
        return packed

    def what_happened(self, error: BaseException) -> BaseException:
        """An error of the cluster in words; any other as it is."""
        name = type(error).__name__
        if name == "KilledWorker":
            return WorkerError(f"{RETRIES + 1} workers died one after the other on the same piece of work: too little memory there?")
        of_cluster = "distributed" in type(error).__module__ or name in ("CancelledError", "FutureCancelledError", "CommClosedError")
        if not of_cluster and (not isinstance(error, OSError | TimeoutError | RuntimeError) or self.serves()):
            return error
        if self.serves():
            return WorkerError(f"what the workers at {self.address} had in hand was lost with one of them ({name})")
        return WorkerError(
            f"the scheduler at {self.address} is gone ({name}): what was finished is kept in the journal, where there is one"
        )

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """Leave the cluster; it stays as it is."""
        with contextlib.suppress(Exception):
            self.client.close(timeout=2)


@contextlib.contextmanager
def _interrupt_not_lost() -> Iterator[None]:
    """Ctrl-C while libraries load can fall into a place where Python ignores errors: it is then raised at the end."""
    before, pressed = signal.getsignal(signal.SIGINT), threading.Event()
    if threading.current_thread() is not threading.main_thread() or not callable(before):
        yield  # not ours to hear, or somebody wants it ignored
        return

    def note(number: int, frame: Any) -> None:
        pressed.set()
        raise KeyboardInterrupt

    signal.signal(signal.SIGINT, note)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
        if pressed.is_set():
            raise KeyboardInterrupt


def _reached(address: str) -> bool:
    """Whether something listens at an address such as ``tcp://10.0.0.7:40123``."""
    try:
        where = urlsplit(address)
        if not where.hostname or not where.port:
            return False  # workers inside a process, for instance
        with socket.create_connection((where.hostname, where.port), REACHED):
            return True
    except (OSError, ValueError):
        return False


def _version() -> tuple[str, str]:
    from importlib.metadata import version

    return version("chaff-select"), f"{sys.version_info.major}.{sys.version_info.minor}"


def _sizes(paths: list[str]) -> dict[str, int | None]:
    return {p: os.path.getsize(p) if os.path.isfile(p) else None for p in paths}
