"""Journal: a file of sets that were scored, so that a search that was killed goes on and another one scores nothing twice.

One file belongs to one data; in it stand the scores of any number of models, metrics and folds. SQLite keeps it whole however
the process ends.
"""

from __future__ import annotations

import os
import sqlite3
import stat
import threading
import time
from array import array
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import DataError
from chaff.evaluate.fingerprint import DataKey, ScoreKey
from chaff.metrics import METRICS
from chaff.visible import listed

APPLICATION = 0x43484146  # the mark that SQLite files may carry of whom they belong to
VERSION = 1
EVERY = 0.25  # seconds after which what is known is written at the latest, before the next set is scored
ROUNDING = 1e-9  # by which a score may miss its bounds
PATIENCE = 30.0  # seconds that another process may take to write

TABLES = """
CREATE TABLE data (what TEXT PRIMARY KEY, is_ TEXT);
CREATE TABLE columns (number INTEGER PRIMARY KEY, name TEXT UNIQUE, hash TEXT);
CREATE TABLE grounds (number INTEGER PRIMARY KEY, model TEXT, metrics TEXT, folds TEXT, how TEXT, version TEXT,
    UNIQUE (model, metrics, folds, version));
CREATE TABLE scores (ground INTEGER, members BLOB, scores BLOB, PRIMARY KEY (ground, members)) WITHOUT ROWID;
"""


class Journal:
    """An open journal. Safe to use from several threads.

    Parameters
    ----------
    path : str or Path
    data : DataKey
        Of the table that is searched.

    Raises
    ------
    DataError
        When the file is no journal, is damaged, was written by a newer Chaff, or belongs to other data: it says what differs.
    """

    def __init__(self, path: str | Path, data: DataKey) -> None:
        self.path = Path(path)
        self._lock = threading.Lock()
        self._waiting: list[tuple[int, bytes, bytes]] = []
        self._written = time.monotonic()
        self.lost = ""
        """Why it could not be written any more; empty while all is well."""
        self._db = _open(self.path, write=True)
        with self._in_words():
            self._begin()
            _column_names(self._db, self.path)
            self._check(data)
            self._names = _column_names(self._db, self.path)
        self._numbers = {name: k for k, name in self._names.items()}

    @contextmanager
    def _in_words(self) -> Iterator[None]:
        with database_errors(self.path):
            yield

    def _begin(self) -> None:
        self._db.execute("PRAGMA trusted_schema = OFF")
        self._db.execute("PRAGMA synchronous = OFF")  # a killed process loses nothing by it
        self._db.execute("BEGIN IMMEDIATE")
        if not self._db.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
            for statement in TABLES.split(";"):
                self._db.execute(statement)
            self._db.execute(f"PRAGMA application_id = {APPLICATION}")
            self._db.execute(f"PRAGMA user_version = {VERSION}")
        self._db.execute("COMMIT")
        check_ours(self._db, self.path)

    def _check(self, data: DataKey) -> None:
        self._db.execute("BEGIN IMMEDIATE")
        here = {"rows": str(data.rows), "target": data.target, "target_hash": data.target_hash}
        there = dict(self._db.execute("SELECT what, is_ FROM data"))
        known = dict(self._db.execute("SELECT name, hash FROM columns"))
        if there and (there.keys() != here.keys() or not all(isinstance(v, str) for v in there.values()) or not there["rows"].isdecimal()):
            self._db.execute("ROLLBACK")
            raise damaged(self.path, "what data it belongs to cannot be read")
        differs = _differences(here, there, dict(data.columns), known) if there else ""
        if differs:
            self._db.execute("ROLLBACK")
            raise DataError(f"{self.path.name} is a journal of other data: {differs}. Name another file, or delete this one")
        self._db.executemany("INSERT OR IGNORE INTO data VALUES (?, ?)", here.items())
        self._db.executemany("INSERT OR IGNORE INTO columns (name, hash) VALUES (?, ?)", data.columns)
        self._db.execute("COMMIT")

    def of(self, key: ScoreKey, splits: int) -> JournalPage:
        """The page of one model, metric and folds, which have so many splits.

        Raises
        ------
        DataError
            When what stands there cannot be scores of these.
        """
        g = (key.model, key.metrics, key.folds, key.how, key.version)
        with self._lock, self._in_words():
            self._db.execute("INSERT OR IGNORE INTO grounds (model, metrics, folds, how, version) VALUES (?, ?, ?, ?, ?)", g)
            result = "SELECT number FROM grounds WHERE model = ? AND metrics = ? AND folds = ? AND version = ?"
            number = self._db.execute(result, (g[0], g[1], g[2], g[4])).fetchone()[0]
            rows = self._db.execute("SELECT members, scores FROM scores WHERE ground = ?", (number,)).fetchall()
        known = checked_scores(self.path, rows, self._names, key.metrics, splits)
        return JournalPage(self, number, {frozenset(names): scores for names, scores in known})

    def add(self, key: int, sets: Sequence[frozenset[str]], scores: Floats) -> None:
        """Note some scores; written together with what comes in the next quarter of a second."""
        with self._lock:
            number_of = self._numbers.__getitem__
            for s, values in zip(sets, np.asarray(scores, float), strict=True):
                if not np.isfinite(values).all():  # such as the area of a fold with one class: computed again each time
                    continue
                members = array("I", sorted(map(number_of, s))).tobytes()
                self._waiting.append((key, members, values.tobytes()))
            if time.monotonic() - self._written >= EVERY:
                self._write()

    def flush(self) -> None:
        """Write what waits."""
        with self._lock:
            self._write()

    def _write(self) -> None:
        if self._waiting and not self.lost:
            try:
                self._db.execute("BEGIN IMMEDIATE")
                self._db.executemany("INSERT OR IGNORE INTO scores VALUES (?, ?, ?)", self._waiting)
                self._db.execute("COMMIT")
            except sqlite3.Error as error:  # a full disk must not end a search of an hour
                self.lost = str(error)
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")
        self._waiting.clear()
        self._written = time.monotonic()

    def close(self) -> None:
        self.flush()
        self._db.close()

    def __enter__(self) -> Journal:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


@dataclass(frozen=True)
class JournalPage:
    """What a journal knows of one model, metric and folds."""

    journal: Journal
    number: int
    known: dict[frozenset[str], Floats]
    """Set → float64 (splits x metrics)."""

    def add(self, sets: Sequence[frozenset[str]], scores: Floats) -> None:
        self.journal.add(self.number, sets, scores)


def _open(path: Path, write: bool) -> sqlite3.Connection:
    """Raises `DataError` for what is no plain file, or not there where it is only read."""
    try:
        kind = os.lstat(path).st_mode
    except FileNotFoundError:
        if not write:
            raise DataError(f"no such journal: {path}") from None
        kind = stat.S_IFREG
    except (OSError, ValueError) as error:
        raise DataError(f"journal {path.name} cannot be opened: {getattr(error, 'strerror', None) or error}") from error
    if not stat.S_ISREG(kind):
        raise DataError(f"{path.name} is not a regular file (a folder, a link or a device): name another journal")
    with database_errors(path):
        mode = "rwc" if write else "ro"
        db = sqlite3.connect(f"{path.resolve().as_uri()}?mode={mode}", PATIENCE, uri=True, isolation_level=None, check_same_thread=False)
        try:
            db.execute("SELECT count(*) FROM sqlite_master")
        except sqlite3.Error:
            db.close()
            raise
        return db


@contextmanager
def database_errors(path: Path) -> Iterator[None]:
    """Whatever SQLite raises, in words."""
    try:
        yield
    except sqlite3.DatabaseError as error:
        words = str(error)
        if "not a database" in words:
            why = "is no journal of Chaff's"
        elif "malformed" in words or "no such table" in words:
            why = "is damaged (cut off, or written over)"
        else:
            raise DataError(f"journal {path.name} cannot be used: {words}") from error
        raise DataError(f"{path.name} {why}: name another file, or delete this one") from error


def damaged(path: Path, why: str) -> DataError:
    return DataError(f"{path.name} is damaged ({why}): name another file, or delete this one")


def check_ours(db: sqlite3.Connection, path: Path) -> None:
    """Raises `DataError` for another program's database, a journal of a later version, and one that holds anything but our tables."""
    if db.execute("PRAGMA application_id").fetchone()[0] != APPLICATION:
        raise DataError(f"{path.name} is no journal of Chaff's but some other database: name another file")
    version = db.execute("PRAGMA user_version").fetchone()[0]
    if version != VERSION:
        raise DataError(f"{path.name} has version {version} of the journal, this Chaff reads {VERSION}: update Chaff, or name another file")
    there = {(kind, name): sql for kind, name, sql in db.execute("SELECT type, name, sql FROM sqlite_master") if sql is not None}
    ours = {("table", sql.split()[2]): sql for t in TABLES.split(";") if (sql := t.strip())}
    for key in sorted({*there, *ours}):
        if there.get(key) != ours.get(key):
            raise damaged(path, f"its {key[0]} {_short(key[1])} is not as Chaff makes it")


def _column_names(db: sqlite3.Connection, path: Path) -> dict[int, str]:
    """Number → name of each column."""
    out = {}
    for number, name, cells in db.execute("SELECT number, name, hash FROM columns"):
        if not isinstance(name, str) or not isinstance(cells, str) or not 0 < number < 2**32:
            raise damaged(path, "a column in it has no name or number")
        out[number] = name
    return out


def checked_scores(
    path: Path, rows: Iterable[tuple[Any, Any]], names: Mapping[int, str], metrics: str, splits: int | None
) -> list[tuple[tuple[str, ...], Floats]]:
    """(names of the set, float64 (splits x metrics)) of each row of the table of scores.

    splits : None where they are not known, then the same in every row.

    Raises
    ------
    DataError
    """
    kinds = [METRICS.get(m) for m in metrics.split(" ")]
    if any(m is None for m in kinds):
        raise damaged(path, f"metric {_short(metrics)}")
    least, most = (np.array([getattr(m, end) for m in kinds]) for end in ("least", "most"))
    out = []
    for members, scores in rows:
        if not isinstance(members, bytes) or not isinstance(scores, bytes) or len(members) % 4 or len(scores) % (8 * len(kinds)):
            raise damaged(path, "a set or score in it is cut off")
        numbers, values = np.frombuffer(members, np.uint32), np.frombuffer(scores, float).reshape(-1, len(kinds))
        splits = len(values) if splits is None else splits
        if len(values) != splits or not len(values):
            raise damaged(path, f"scores of {len(values)} splits where there are {splits}")
        if (np.diff(numbers.astype(np.int64)) <= 0).any() or not all(k in names for k in numbers.tolist()):
            raise damaged(path, "a set of unknown columns")
        means = values.mean(0)
        if not np.isfinite(values).all() or (values < least - ROUNDING).any() or (means > most + ROUNDING).any():
            raise damaged(path, f"a score that {metrics.replace(' ', ' or ')} cannot be")
        out.append((tuple(names[k] for k in numbers.tolist()), values.reshape(-1)))
    return out


def _short(text: Any) -> str:
    return repr(text)[:60]


def _differences(here: dict[str, str], there: dict[str, str], columns: dict[str, str], known: dict[str, str]) -> str:
    """In words; empty where nothing differs. A column that only one of the two knows is no difference."""
    out = []
    if here["rows"] != there["rows"]:
        return f"{int(there['rows']):,} rows there, {int(here['rows']):,} here"
    if here["target"] != there["target"]:
        return f"its target is {there['target']}, not {here['target']}"
    if here["target_hash"] != there["target_hash"]:
        out.append("the target or the weights hold other values")
    other = sorted(n for n, h in columns.items() if n in known and known[n] != h)
    if other:
        subset = listed(other, 4)
        out.append(f"other cells in {subset}")
    return " and ".join(out)


@dataclass(frozen=True)
class JournalEntry:
    """One key of a journal, as `--show` lists it."""

    model: str
    metrics: str
    how: str
    version: str
    sets: int
    best: float
    """Mean of the first metric over the folds."""
    size: int
    features: tuple[str, ...]


def read_journal(path: str | Path) -> tuple[dict[str, str], list[JournalEntry]]:
    """(what data it belongs to, an entry for each model, metric and folds).

    Raises
    ------
    DataError
        As `Journal`.
    """
    file = Path(path)
    db = _open(file, write=False)
    try:
        with database_errors(file):
            check_ours(db, file)
            data = {str(k): str(v) for k, v in db.execute("SELECT what, is_ FROM data")}
            names = _column_names(db, file)
            out = []
            for number, *words in db.execute("SELECT number, model, metrics, how, version FROM grounds").fetchall():
                if not all(isinstance(w, str) for w in words):
                    raise damaged(file, "what its scores belong to is no text")
                model, metrics, how, version = words
                rows = db.execute("SELECT members, scores FROM scores WHERE ground = ?", (number,)).fetchall()
                known = checked_scores(file, rows, names, metrics, None)
                first = metrics.split(" ")
                sign = 1.0 if METRICS[first[0]].higher_is_better else -1.0
                means = [float(s.reshape(-1, len(first))[:, 0].mean()) for _, s in known]
                best = max(range(len(known)), key=lambda k: (sign * means[k], -len(known[k][0])), default=None)
                held = () if best is None else tuple(sorted(known[best][0]))
                entry = JournalEntry(
                    model, metrics, how, version, len(rows), float("nan") if best is None else means[best], len(held), held
                )
                out.append(entry)
            return {**data, "columns": str(len(names))}, out
    finally:
        db.close()
