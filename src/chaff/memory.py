"""Memory: what the machine has, sizes in words, and caches that know where to stop."""

from __future__ import annotations

import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Generic, TypeVar

from chaff.errors import UsageError

Value = TypeVar("Value")
UNKNOWN = 8e9  # bytes taken for granted where the system does not tell


def machine_bytes() -> float:
    """The machine's memory."""
    try:
        return float(os.sysconf("SC_PHYS_PAGES")) * float(os.sysconf("SC_PAGE_SIZE"))
    except (ValueError, OSError, AttributeError):
        return UNKNOWN


@dataclass(eq=False)
class BoundedCache(Generic[Value]):
    """Values by name, the longest unused ones given up when they take more than `most` bytes together.

    Safe to use from several threads; two that miss at once may both make the value, and one of the two is kept.
    """

    most: float
    size_of: Callable[[Value], int]
    _held: OrderedDict[str, Value] = field(default_factory=OrderedDict)
    _bytes: int = 0
    _lock: threading.Lock = field(default_factory=threading.Lock, repr=False)

    def get(self, name: str, make: Callable[[str], Value]) -> Value:
        with self._lock:
            if name in self._held:
                self._held.move_to_end(name)
                return self._held[name]
        value = make(name)
        with self._lock:
            if name not in self._held:
                self._held[name] = value
                self._bytes += self.size_of(value)
            while self._bytes > self.most and len(self._held) > 1:
                self._bytes -= self.size_of(self._held.popitem(last=False)[1])
            return value

    def without(self, names: Iterable[str]) -> BoundedCache[Value]:
        """A cache of its own that starts with the same values but for some."""
        out = set(names)
        with self._lock:
            kept = OrderedDict((k, v) for k, v in self._held.items() if k not in out)
        return BoundedCache(self.most, self.size_of, kept, sum(map(self.size_of, kept.values())))

    def __getstate__(self) -> dict[str, object]:
        """A copy in another process starts empty."""
        return {"most": self.most, "size_of": self.size_of}

    def __setstate__(self, state: dict[str, object]) -> None:
        self.__dict__.update(state, _held=OrderedDict(), _bytes=0, _lock=threading.Lock())


SIZES = {"b": 1, "kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12, "kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40}


def bytes_of(given: str | float) -> int:
    """A size as people say it (``"4GB"``, ``"500 MB"``, ``2e9``) in bytes.

    Raises
    ------
    UsageError
        Where it is none, or none above 0.
    """
    text = str(given).strip().lower().replace(" ", "").replace("_", "")
    number = text.rstrip("kmgtib")
    try:
        size = float(number) * SIZES[text[len(number) :] or "b"]
    except (ValueError, KeyError):
        raise UsageError(f"memory must be a size such as 4GB or 500MB, not {given!r}") from None
    if not 0 < size < float("inf"):
        raise UsageError(f"memory must be a size above 0, not {given!r}")
    return int(size)


def size_in_words(size: float) -> str:
    """A size for people: three digits at most."""
    for unit, scale in (("TB", 1e12), ("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if size >= scale:
            value = size / scale
            return f"{value:.0f} {unit}" if value >= 99.5 else f"{value:.2g} {unit}" if value < 10 else f"{value:.0f} {unit}"
    return f"{size:.0f} bytes"


def held_bytes() -> float:
    """What this process holds in memory now, mapped files not counted; 0 where the system does not tell."""
    try:
        with open("/proc/self/statm") as file:
            _, resident, shared = (float(x) for x in file.read().split()[:3])
    except (OSError, ValueError):
        return 0.0
    return (resident - shared) * float(os.sysconf("SC_PAGE_SIZE"))
