"""What the plain screen let through, remembered for the next look at the same rows, columns and roles.

The key is made of the cells themselves: a file that changed is another key. What cannot be read or written is as if it were not there.
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Callable, Mapping
from dataclasses import asdict
from pathlib import Path

import numpy as np

from chaff.evaluate.fingerprint import DataKey, digest, hash_of_column
from chaff.results.verdict import Pin
from chaff.table.table import Table
from chaff.version import __version__

ENTRIES = 200  # kept, the latest written
LARGEST = 2_000_000  # cells of a table, beyond which making the key takes as long as it saves


def cache_folder() -> Path:
    """`$XDG_CACHE_HOME/chaff/screens`, or under ~/.cache."""
    base = os.environ.get("XDG_CACHE_HOME")
    return (Path(base) if base else Path.home() / ".cache") / "chaff" / "screens"


def remembered(table: Table, pins: Mapping[str, Pin], seed: int, screen: Callable[[], tuple[str, ...]]) -> tuple[str, ...]:
    """What the screen of this table lets through: as it was found before, or found now and written down."""
    if len(table) * len(table.features) > LARGEST:
        return screen()
    try:
        file = cache_folder() / f"{_key(table, pins, seed)}.json"
    except RuntimeError:  # nobody's home is known
        return screen()
    with contextlib.suppress(OSError, ValueError, TypeError):
        kept = set(json.loads(file.read_text(encoding="utf-8")))
        if kept <= set(table.features):
            return tuple(f for f in table.features if f in kept)
    found = screen()
    with contextlib.suppress(OSError):
        _write(file, found)
    return found


def _key(table: Table, pins: Mapping[str, Pin], seed: int) -> str:
    rows = [np.empty(0) if part is None else np.asarray(part) for part in (table.groups, table.order, table.weights)]
    held = sorted((f, p.verdict) for f, p in pins.items())
    data = asdict(DataKey.of(table)) if table.has_target else {f: hash_of_column(table, f) for f in table.features}
    return digest(__version__, seed, held, repr(table.terms), data, *(r.astype(str) if r.dtype.kind == "O" else r for r in rows))


def _write(file: Path, kept: tuple[str, ...]) -> None:
    """Whole or not at all; the oldest entries go when there are too many."""
    file.parent.mkdir(parents=True, exist_ok=True)
    part = file.with_suffix(f".{os.getpid()}")
    part.write_text(json.dumps(kept), encoding="utf-8")
    part.replace(file)
    old = sorted(file.parent.glob("*.json"), key=lambda f: f.stat().st_mtime)[:-ENTRIES]
    for gone in old:
        gone.unlink(missing_ok=True)
