"""Addresses of object stores, such as ``s3://mill/lots``: the file system behind one, and the addresses of files below it."""

from __future__ import annotations

import os
import queue
import re
import threading
from collections.abc import Callable
from typing import Any, TypeVar
from urllib.parse import quote, unquote, urlsplit, urlunsplit

from chaff.errors import DataError
from chaff.table.files.reading import first_line

Answer = TypeVar("Answer")
ANSWER_SECONDS = 30.0  # that a store may take to answer for the first time

_systems: dict[tuple[int, str], tuple[Any, str]] = {}
_lock = threading.Lock()


def is_address(source: object) -> bool:
    return "://" in str(source)


def system_of(address: str) -> tuple[Any, str]:
    """(file system, path in it) of a path on this machine or an address; each store is connected to once a process.

    Raises
    ------
    DataError
    """
    import pyarrow as pa
    from pyarrow import fs

    if not is_address(address):
        return fs.LocalFileSystem(), address
    parts = urlsplit(address)
    inside = unquote(parts.path).strip("/")
    key = (os.getpid(), urlunsplit(parts._replace(path="")))
    with _lock:
        if key not in _systems:
            try:
                whole = urlunsplit(parts._replace(path=quote(unquote(parts.path))))
                system, path = answered(lambda: fs.FileSystem.from_uri(whole), address)
            except (pa.ArrowInvalid, pa.ArrowNotImplementedError, OSError, ImportError) as error:
                raise DataError(f"{shown(address)} cannot be reached: {_without_keys(first_line(error))}") from error
            path = path.rstrip("/")
            if not path.endswith(inside):  # a store that names its files otherwise: asked each time
                return system, path
            _systems[key] = system, path[: len(path) - len(inside)] if inside else f"{path}/"
        system, before = _systems[key]
    return system, (before + inside).rstrip("/") or before


def answered(call: Callable[[], Answer], address: str) -> Answer:
    """What a first call to a store gives. It is made in a thread of its own: a client that waits for a store that is not there does not
    listen to Ctrl-C, and may wait for a quarter of an hour.

    Raises
    ------
    DataError
        When there is no answer in time.
    """
    if urlsplit(address).scheme == "file":
        return call()
    done: queue.SimpleQueue[tuple[bool, Any]] = queue.SimpleQueue()

    def work() -> None:
        try:
            done.put((True, call()))
        except BaseException as error:  # handed on to whoever waits
            done.put((False, error))

    threading.Thread(target=work, name="chaff-connect", daemon=True).start()
    try:
        went_well, result = done.get(timeout=ANSWER_SECONDS)
    except queue.Empty:
        raise DataError(f"{shown(address)} cannot be reached: no answer in {ANSWER_SECONDS:g} seconds") from None
    if not went_well:
        raise result
    answer: Answer = result
    return answer


def below(address: str, path: str, file: str) -> str:
    """The address of a file of the same store, with what the address says beside the path (its region, its end point).

    Parameters
    ----------
    address, path : str
        Of the folder, or of the file itself, and what it is in its file system.
    file : str
        In that file system.
    """
    if urlsplit(address).scheme == "file":
        return file
    parts = urlsplit(address)
    rest = file[len(path.rstrip("/")) :] if file.startswith(path.rstrip("/")) else "/" + file
    return urlunsplit(parts._replace(path=parts.path.rstrip("/") + quote(rest)))


def _without_keys(words: str) -> str:
    """What a client says of an address, which may name all of it."""
    return re.sub(r"(\w+://)(?:[^\s'\"/@]*@)?([^\s'\"?]*)(?:\?[^\s'\"]*)?", r"\1\2", words)


def shown(address: str) -> str:
    """The address for people and records: without keys and options."""
    parts = urlsplit(address)
    return urlunsplit((parts.scheme, parts.netloc.rpartition("@")[2], parts.path, "", ""))
