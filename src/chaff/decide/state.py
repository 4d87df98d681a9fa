"""What is remembered between runs: how often each holdout was read, since a holdout that is read often is no holdout."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from chaff.errors import ChaffError
from chaff.files import write_text

MOST = 500  # holdouts remembered, the latest


def state_file() -> Path:
    """`$XDG_STATE_HOME/chaff/holdouts.json`, or under ~/.local/state."""
    base = os.environ.get("XDG_STATE_HOME")
    return (Path(base) if base else Path.home() / ".local" / "state") / "chaff" / "holdouts.json"


@dataclass(frozen=True)
class Read:
    """One more look at a holdout."""

    reads: int
    """How often it has been read, this time counted."""
    after: tuple[str, ...] = ()
    """Of the pins said now, the features that were not pinned so when it was first read."""


def count_read(data: str, rows: str, remember: bool = True, pins: Mapping[str, str] | None = None) -> Read:
    """Count a read of this holdout of this table; 1 where nothing can or may be remembered.

    pins : feature to verdict, as they stand in this run; those of the first read are remembered. None: another look at the same run.
    """
    if not remember:
        return Read(1)
    try:
        file = state_file()
        known = _known(file)
        key = f"{data}/{rows}"
        before = known.pop(key, None)
        reads = (before["reads"] if before else 0) + 1
        first = before["pins"] if before else dict(pins or {})
        known[key] = {"reads": reads, "pins": first}
        file.parent.mkdir(parents=True, exist_ok=True)
        write_text(file, json.dumps(dict(list(known.items())[-MOST:]), indent=1) + "\n")
    except (OSError, RuntimeError, ChaffError):  # a home that cannot be written to is no reason to stop
        return Read(1)
    after = tuple(f for f, verdict in (pins or {}).items() if first is not None and first.get(f) != verdict)
    return Read(reads, after if before is not None else ())


def _known(file: Path) -> dict[str, Any]:
    try:
        said = json.loads(file.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return {k: e for k, v in said.items() if (e := _entry(v)) is not None} if isinstance(said, dict) else {}


def _entry(said: Any) -> dict[str, Any] | None:
    """A holdout as it is remembered; of older files only how often it was read is known."""
    if isinstance(said, int) and not isinstance(said, bool):
        return {"reads": said, "pins": None}
    fits = isinstance(said, dict) and isinstance(said.get("reads"), int) and isinstance(said.get("pins"), dict | None)
    return said if fits else None
