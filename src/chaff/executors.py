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
from concurrent.futures import BrokenExecutor, CancelledError, Executor, Future, ThreadPoolExecutor
from typing import Any

from chaff.errors import ChaffError, UsageError, WorkerError

BLOCKS_A_WORKER = 4  # pieces that the units of a loop are handed out in: few enough to travel, enough to even out
OPENED = 2  # tasks that a process keeps

Run = Callable[[Callable[[Any], Any], list[Any]], list[Any]]


def workers_of(executor: Executor) -> int:
    """How many units an executor works on at a time; two where it does not tell."""
    told = getattr(executor, "workers", None) or getattr(executor, "_max_workers", None)
    return int(told) if isinstance(told, int) and told > 0 else 2


def hand_out(executor: Executor, run: Run, task: Callable[[Any], Any], units: list[Any]) -> list[Future[list[Any]]]:
    """Futures of the results of blocks of units, in order.

    Raises
    ------
    UsageError
        When the task cannot travel.
    WorkerError
        When nobody takes it any more.
    """
    size = -(-len(units) // (BLOCKS_A_WORKER * workers_of(executor)))
    blocks = [units[k : k + size] for k in range(0, len(units), size)]
    try:
        if isinstance(executor, ThreadPoolExecutor):
            return [executor.submit(run, task, b) for b in blocks]
        packed = _packed(executor, task)
        share = getattr(executor, "share", None)
        given = share(packed) if share is not None else packed
        return [executor.submit(_in_process, run, given, b) for b in blocks]
    except ChaffError:
        raise
    except Exception as error:
        raise told(executor, error) from error


def _packed(executor: Executor, task: Any) -> bytes:
    pack = getattr(executor, "pack", pickle.dumps)
    try:
        packed: bytes = pack(task)
        return packed
    except (pickle.PicklingError, TypeError, AttributeError) as error:
        raise UsageError(
            f"this cannot be sent to other processes ({error}): a model of your own must stand in a module that the workers can import"
        ) from error


def result_of(executor: Executor, future: Future[list[Any]]) -> list[Any]:
    """The results of a block.

    Raises
    ------
    WorkerError
        When the processes that worked on it are gone.
    """
    try:
        return future.result()
    except ChaffError:
        raise
    except (BrokenExecutor, CancelledError) as error:
        raise told(executor, error) from error
    except Exception as error:
        if getattr(executor, "what_happened", None) is not None or "distributed" in type(error).__module__:
            raise told(executor, error) from error
        raise


def told(executor: Executor, error: BaseException) -> BaseException:
    """What went wrong with the workers, in words; the error itself where it is none of theirs."""
    what = getattr(executor, "what_happened", None)
    if what is not None:
        found: BaseException = what(error)
        return found
    if isinstance(error, BrokenExecutor | CancelledError | RuntimeError):
        return WorkerError(f"a worker process ended before its work was done ({error or type(error).__name__}): too little memory?")
    return error


_tasks: OrderedDict[bytes, Any] = OrderedDict()
_lock = threading.Lock()


def _in_process(run: Run, packed: bytes, units: list[Any]) -> list[Any]:
    """Units in another process; an error says where that was."""
    try:
        return run(_opened(packed), units)
    except ChaffError as error:
        raise type(error)(f"{error} (on the worker {socket.gethostname()}, process {os.getpid()})") from None


def _opened(packed: bytes) -> Any:
    key = hashlib.sha256(packed).digest()
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
