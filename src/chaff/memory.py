"""Memory: what the machine has, and caches that know where to stop."""

from __future__ import annotations

import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Generic, TypeVar

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
