"""Executors: units of work in other processes, on this machine or others. A task travels once for many units and is opened once a
process; what it needs of a table on disk it reads there."""

from __future__ import annotations

import hashlib
import os
import pickle
import socket
import threading
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, CancelledError, Executor, Future, ThreadPoolExecutor, wait
from itertools import pairwise
from typing import Any

from chaff.errors import ChaffError, UsageError, WorkerError

BLOCKS_A_WORKER = 4  # pieces that the units of a loop are handed out in: few enough to travel, enough to even out
ATTEMPTS = 3  # at a loop whose workers died
SILENCE = 3.0  # seconds without a result after which it is asked whether anybody is still there
OPENED = 2  # tasks that a process keeps

Run = Callable[[Callable[[Any], Any], list[Any]], list[Any]]


def workers_of(executor: Executor) -> int:
    """How many units an executor works on at a time; two where it does not tell."""
    text = getattr(executor, "workers", None) or getattr(executor, "_max_workers", None)
    return int(text) if isinstance(text, int) and text > 0 else 2


def carried_out(executor: Executor, run: Run, task: Callable[[Any], Any], units: list[Any], tell: Callable[[int], object]) -> list[Any]:
    """Results of all units, in order; from the beginning where some were lost with a worker, and there are others.

    Parameters
    ----------
    run : callable
        ``run(task, units)`` in the other process.
    tell : callable
        Hears how many units are done.

    Raises
    ------
    UsageError
        When the task cannot travel.
    WorkerError
        When nobody works on it any more.
    """
    serves = getattr(executor, "serves", None)
    for left in range(ATTEMPTS - 1, -1, -1):
        try:
            return _gathered(executor, _handed_out(executor, run, task, units), tell, serves)
        except WorkerError:
            if not left or serves is None or not serves():
                raise
    return []


def _handed_out(executor: Executor, run: Run, task: Callable[[Any], Any], units: list[Any]) -> list[Future[list[Any]]]:
    """Futures of blocks of units."""
    try:
        count = min(len(units), BLOCKS_A_WORKER * workers_of(executor))
        edges = [len(units) * k // count for k in range(count + 1)]  # as even as can be: the last block is waited for by all
        blocks = [units[a:b] for a, b in pairwise(edges)]
        if isinstance(executor, ThreadPoolExecutor):
            return [executor.submit(run, task, b) for b in blocks]
        packed = _packed(executor, task)
        share = getattr(executor, "share", None)
        given, key = share(packed) if share is not None else packed, hashlib.sha256(packed).digest()
        return [executor.submit(_in_process, run, key, given, b) for b in blocks]
    except ChaffError:
        raise
    except Exception as error:
        raise executor_error(executor, error) from error


def _gathered(
    executor: Executor, futures: list[Future[list[Any]]], tell: Callable[[int], object], serves: Callable[[], bool] | None
) -> list[Any]:
    """What the futures give, in order; after an error or Ctrl-C what has not begun is not begun."""
    done, pending = 0, set(futures)
    try:
        while pending:
            ready, pending = wait(pending, timeout=SILENCE, return_when=FIRST_COMPLETED)
            for future in ready:
                done += len(_result_of(executor, future))
                tell(done)
            if not ready and serves is not None and not serves():
                raise executor_error(executor, ConnectionError("no answer"))
        return [result for future in futures for result in future.result()]
    finally:
        for future in futures:
            future.cancel()


def _packed(executor: Executor, task: Any) -> bytes:
    pack = getattr(executor, "pack", pickle.dumps)
    try:
        packed: bytes = pack(task)
        return packed
    except (pickle.PicklingError, TypeError, AttributeError) as error:
        raise UsageError(
            f"this cannot be sent to other processes ({error}): define the model in a module that the workers can import"
        ) from error


def _result_of(executor: Executor, future: Future[list[Any]]) -> list[Any]:
    try:
        return future.result()
    except ChaffError:
        raise
    except (BrokenExecutor, CancelledError) as error:
        raise executor_error(executor, error) from error
    except Exception as error:
        if getattr(executor, "what_happened", None) is not None:
            raise executor_error(executor, error) from error
        raise


def executor_error(executor: Executor, error: BaseException) -> BaseException:
    """What went wrong with the workers, in words; the error itself where it is none of theirs."""
    what = getattr(executor, "what_happened", None)
    if what is not None:
        result: BaseException = what(error)
        return result
    if isinstance(error, BrokenExecutor | CancelledError | RuntimeError):
        return WorkerError(f"a worker process ended before its work was done ({error or type(error).__name__}): too little memory?")
    return error


_tasks: OrderedDict[bytes, Any] = OrderedDict()
_lock = threading.Lock()


def _in_process(run: Run, key: bytes, packed: bytes, units: list[Any]) -> list[Any]:
    """Units in another process, of a task that goes by this key; an error says where that was."""
    try:
        return run(_opened(key, packed), units)
    except ChaffError as error:
        raise type(error)(f"{error} (on the worker {socket.gethostname()}, process {os.getpid()})") from None


def _opened(key: bytes, packed: bytes) -> Any:
    with _lock:
        if key in _tasks:
            _tasks.move_to_end(key)
            return _tasks[key]
    task = pickle.loads(packed)
    with _lock:
        _tasks[key] = task
        while len(_tasks) > OPENED:
            _tasks.popitem(last=False)
    return task
