"""The holdout: rows set aside before anything is looked at, and how a selection remembers them.

What is remembered between runs: how often the rows of each holdout were read, since a holdout that is read often is no holdout.
"""

from __future__ import annotations

import base64
import hashlib
import json
import os
import sqlite3
import stat
import zlib
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Ints
from chaff.errors import UsageError
from chaff.evaluate.fingerprint import digest
from chaff.folds import split_holdout
from chaff.table.table import Table
from chaff.work import Work, Workers

if TYPE_CHECKING:
    from chaff.decide.run_parts import RunParts
    from chaff.decide.selection_parts import HoldoutPart
    from chaff.methods.evaluation.evaluation import Evaluation


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


def set_aside(table: Table, share: float, work: Work) -> tuple[Ints, Ints, str]:
    """(training rows, holdout rows, how) as positions in the table's view; rows that came separately are the holdout."""
    given = (table.source.arrow.schema.metadata or {}).get(b"holdout_rows")
    if given is not None:
        late = table.rows >= table.source.rows - int(given)
        return np.flatnonzero(~late), np.flatnonzero(late), "separate rows"
    if share == 0:
        return np.arange(len(table)), np.empty(0, np.int64), "none"
    rows, held = split_holdout(table, share, work)
    how = "latest rows" if table.order is not None else "whole groups" if table.groups is not None else "at random"
    return rows, held, how


def holdout_part(table: Table, held: Ints, how: str, reads: int) -> HoldoutPart:
    """What a selection stores of it."""
    from chaff.decide.selection_parts import HoldoutPart

    if not held.size:
        return HoldoutPart()
    rows = table.rows[held]
    flags = np.zeros(table.source.rows, np.uint8)
    flags[rows] = 1
    return HoldoutPart(
        rows="sha256:" + hashlib.sha256(rows.astype("<i8").tobytes()).hexdigest(),
        bitmap=base64.b64encode(zlib.compress(np.packbits(flags).tobytes(), 9)).decode(),
        count=int(rows.size),
        share=round(rows.size / len(table), 6),
        how=how,
        reads=reads,
    )


def holdout_rows(part: HoldoutPart, source_rows: int) -> Ints:
    """Row numbers of the source that were set aside, from what a selection stores."""
    if not part.count:
        return np.empty(0, np.int64)
    packed = np.frombuffer(zlib.decompress(base64.b64decode(part.bitmap)), np.uint8)
    return np.flatnonzero(np.unpackbits(packed)[:source_rows]).astype(np.int64)


def evaluation_of(run: RunParts, model: Any = None, workers: Workers = None, state: bool = True) -> Evaluation:
    """See `Run.evaluate`."""
    from chaff.evaluate.fitted import FitAndPredict, Prepare
    from chaff.folds import one_split
    from chaff.methods.evaluation.evaluation import FULL, KEPT, NOTHING, Evaluation
    from chaff.models.named import as_model

    if not run.holdout.size:
        raise UsageError("there is no holdout to evaluate on: select with holdout=0.2 (--holdout 0.2), or pass a file of separate rows")
    used = run.final_scores.deciding if model is None else as_model(model)
    reads = run.ledger.holdout_reads
    if model is not None and used != run.final_scores.deciding:  # another look at rows that the table of final scores has read once
        reads = count_read(HoldoutKey.of(run.table, run.holdout) if state else None).reads
    sets = {FULL: run.final_scores.full, KEPT: run.final_scores.kept, NOTHING: ()}
    sample = run.row_sample
    both = set(sets[FULL]) | set(sets[KEPT])
    names = tuple(f for f in run.table.features if f in both)
    wide = sample.table.with_features(names) if names else sample.table
    split = Prepare(wide, used, one_split(wide, sample.rows, sample.held), Work(run.selection.seed, workers))(0)
    fit = FitAndPredict(used)
    predicted = {s: fit((tuple(f for f in names if f in subset), split)) for s, subset in sets.items()}
    return Evaluation(used, wide.take(sample.held), split.truth, predicted, sets, reads)
