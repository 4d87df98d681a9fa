"""What is remembered between runs: how often each holdout was read, since a holdout that is read often is no holdout."""

from __future__ import annotations

import json
import os
from pathlib import Path

from chaff.errors import ChaffError
from chaff.files import write_text

MOST = 500  # holdouts remembered, the latest


def state_file() -> Path:
    """`$XDG_STATE_HOME/chaff/holdouts.json`, or under ~/.local/state."""
    base = os.environ.get("XDG_STATE_HOME")
    return (Path(base) if base else Path.home() / ".local" / "state") / "chaff" / "holdouts.json"


def count_read(data: str, rows: str, remember: bool = True) -> int:
    """How often this holdout of this table has been read, this time counted; 1 where nothing can or may be remembered."""
    if not remember:
        return 1
    try:
        file = state_file()
        known = _known(file)
        key = f"{data}/{rows}"
        reads = int(known.pop(key, 0)) + 1
        known[key] = reads
        file.parent.mkdir(parents=True, exist_ok=True)
        write_text(file, json.dumps(dict(list(known.items())[-MOST:]), indent=1) + "\n")
    except (OSError, RuntimeError, ChaffError):  # a home that cannot be written to is no reason to stop
        return 1
    return reads


def _known(file: Path) -> dict[str, int]:
    try:
        said = json.loads(file.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return {k: v for k, v in said.items() if isinstance(v, int)} if isinstance(said, dict) else {}
