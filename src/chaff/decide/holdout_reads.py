"""What is remembered between runs: how often the rows of each holdout were read, since a holdout that is read often is no holdout.

A small database in the person's state folder. Its own locks see to it that two runs at once count each, and they end with the process.
"""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import stat
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from chaff.arrays import Ints
from chaff.evaluate.fingerprint import digest
from chaff.table.table import Table

MAX_HOLDOUTS = 500  # remembered, the latest read
COLUMNS_COMPARED = 32  # of a holdout; more of them tell nothing more
WAIT = 30.0  # seconds that another run may take to count
LAYOUT = """CREATE TABLE IF NOT EXISTS holdouts (number INTEGER PRIMARY KEY, rows INTEGER, target TEXT, target_hash TEXT, columns TEXT,
    pins TEXT, reads INTEGER)"""


def state_file() -> Path:
    """`$XDG_STATE_HOME/chaff/holdouts.sqlite`, or under ~/.local/state."""
    base = os.environ.get("XDG_STATE_HOME")
    return (Path(base) if base else Path.home() / ".local" / "state") / "chaff" / "holdouts.sqlite"


@dataclass(frozen=True)
class HoldoutKey:
    """Which rows a holdout is, by their cells: not by the file, the folder or the columns that take part."""

    rows: int
    target: str
    target_hash: str
    columns: dict[str, str]
    """Hashes of the cells of some columns, always the same ones of the same names."""

    @classmethod
    def of(cls, table: Table, held: Ints) -> HoldoutKey:
        """held : positions in the table's view."""
        rows = table.take(held)
        t = table.target
        y = _cells(rows.y, t.classes)
        names = sorted(table.features, key=lambda f: hashlib.sha256(f.encode("utf-8", "surrogatepass")).digest())
        columns = (rows.column(f) for f in names[:COLUMNS_COMPARED] if f not in table.decoys)
        return cls(len(rows), t.name, digest(y), {c.name: digest(_cells(c.values, c.levels)) for c in columns})

    def same_rows(self, columns: Mapping[str, str]) -> bool:
        """Whether most of the columns that both know hold the same cells."""
        shared = [f for f in self.columns if f in columns]
        return 2 * sum(self.columns[f] == columns[f] for f in shared) >= len(shared)


def _cells(values: Any, levels: tuple[str, ...]) -> Any:
    """Numbers as they are; words by the word, since its code depends on which other words there are."""
    if not levels:
        return np.asarray(values, float)
    words = [int.from_bytes(hashlib.sha256(w.encode("utf-8", "surrogatepass")).digest()[:8], "little") for w in levels]
    codes = np.nan_to_num(np.asarray(values, float), nan=len(levels)).astype(int)
    return np.array([*words, 0], np.uint64)[codes]


@dataclass(frozen=True)
class Read:
    """One more look at a holdout."""

    reads: int
    """How often it has been read, this time included."""
    after: tuple[str, ...] = ()
    """Of the pins of this run, the features that were not pinned so when it was first read."""
    counted: bool = True
    """Whether earlier and later reads are counted: False where nothing can or may be remembered."""


def count_read(key: HoldoutKey | None, pins: Mapping[str, str] | None = None) -> Read:
    """Count a read of this holdout.

    key : None where nothing is to be remembered.
    pins : feature to verdict, as they stand in this run; those of the first read are remembered. None: another look at the same run.
    """
    if key is None:
        return Read(1, counted=False)
    try:
        with _writing(state_file()) as db:
            before = next((e for e in _entries(db, key) if key.same_rows(e[1])), None)
            reads, first = (1, dict(pins or {})) if before is None else (before[3] + 1, before[2])
            if before is not None:
                db.execute("DELETE FROM holdouts WHERE number = ?", (before[0],))
            entry = (key.rows, key.target, key.target_hash, json.dumps(key.columns), json.dumps(first), reads)
            db.execute("INSERT INTO holdouts (rows, target, target_hash, columns, pins, reads) VALUES (?, ?, ?, ?, ?, ?)", entry)
            db.execute("DELETE FROM holdouts WHERE number <= (SELECT max(number) FROM holdouts) - ?", (MAX_HOLDOUTS,))
    except (OSError, RuntimeError, sqlite3.Error):  # a home that cannot be written to is no reason to stop
        return Read(1, counted=False)
    after = tuple(f for f, verdict in (pins or {}).items() if first.get(f) != verdict)
    return Read(reads, after if before is not None else ())


@contextmanager
def _writing(file: Path) -> Iterator[sqlite3.Connection]:
    """The database in one transaction, which other runs wait for; made again where it is damaged."""
    file.parent.mkdir(parents=True, exist_ok=True)
    if file.is_symlink() or (file.exists() and not stat.S_ISREG(os.lstat(file).st_mode)):
        raise OSError(f"{file} is not a regular file")
    if file.exists() and not _is_database(file):
        file.unlink()
    with closing(sqlite3.connect(file, WAIT, isolation_level=None)) as db:
        db.execute("BEGIN IMMEDIATE")
        db.execute(LAYOUT)
        yield db
        db.execute("COMMIT")


def _is_database(file: Path) -> bool:
    with open(file, "rb") as start:
        return start.read(16) in (b"SQLite format 3\x00", b"")


def _entries(db: sqlite3.Connection, key: HoldoutKey) -> list[tuple[int, dict[str, str], dict[str, str], int]]:
    """(number, column hashes, pins, reads) of the holdouts of as many rows with this target; what is damaged is left out."""
    out = []
    query = "SELECT number, columns, pins, reads FROM holdouts WHERE rows = ? AND target = ? AND target_hash = ?"
    for number, columns, pins, reads in db.execute(query, (key.rows, key.target, key.target_hash)).fetchall():
        try:
            columns, pins = json.loads(columns), json.loads(pins)
        except (ValueError, TypeError):
            continue
        if isinstance(columns, dict) and isinstance(pins, dict) and isinstance(reads, int) and reads > 0:
            out.append((number, columns, pins, reads))
    return out
