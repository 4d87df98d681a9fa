"""What compared methods made of each fold, kept in a file: a comparison that was ended goes on, a saved one is cut again."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from chaff.errors import DataError
from chaff.evaluate.fingerprint import DataKey, digest
from chaff.files import check_place, keep_existing, write_text
from chaff.folds import Folds
from chaff.methods.comparing.method import FoldSets, Method
from chaff.results.plain import plain
from chaff.table.table import Table
from chaff.version import __version__
from chaff.work import Work

FORMAT = "chaff comparison journal"


def key_of(table: Table, folds: Folds, work: Work, *further: Any) -> str:
    """Equal for comparisons that learn the same: rows, columns, folds, seed, and whatever else decides."""
    return digest(repr(DataKey.of(table)), *folds.parts, folds.how, str(work.seed), *map(repr, further), __version__)


def as_plain(sets: FoldSets | str) -> Any:
    """As JSON holds it; a message where the method failed."""
    if isinstance(sets, str):
        return sets
    of_size = None if sets.sets is None else {str(k): sorted(v) for k, v in sets.sets.items()}
    own = None if sets.own is None else sorted(sets.own)
    return plain(
        {"order": sets.order, "raw": dict(sets.raw), "pinned": sorted(sets.pinned), "own": own, "sets": of_size, "seconds": sets.seconds}
    )


def from_plain(given: Any) -> FoldSets | str:
    if isinstance(given, str):
        return given
    of_size = None if given["sets"] is None else {int(k): frozenset(v) for k, v in given["sets"].items()}
    own = None if given["own"] is None else frozenset(given["own"])
    raw = {k: float(v) for k, v in given["raw"].items() if v is not None}
    return FoldSets(tuple(given["order"]), raw, frozenset(given["pinned"]), own, of_size, float(given["seconds"]))


class LearnedSets:
    """Looked up before anything is learned, and added to as each fold is done.

    Parameters
    ----------
    key : str
        What it belongs to; see `key_of`.
    entries : iterable of dict
        What is known.
    path : Path or None
        The file that it is written to, line by line.
    """

    def __init__(self, key: str, entries: Iterable[Mapping[str, Any]] = (), path: Path | None = None) -> None:
        self.key, self.path = key, path
        self._lock = threading.Lock()
        self._known = {(e["method"], e["fold"]): from_plain(e["result"]) for e in entries}

    @classmethod
    def open(cls, path: str | Path, key: str) -> LearnedSets:
        """A journal, made where there is none; a last line that was not finished is left out.

        Raises
        ------
        DataError
            When the file is another one, or belongs to other data, folds, methods' settings or another seed.
        """
        file = Path(path)
        if not file.exists():
            check_place(file)
            file.write_text(json.dumps({"format": FORMAT, "key": key}) + "\n", encoding="utf-8")
            return cls(key, (), file)
        try:
            first, *lines = file.read_text(encoding="utf-8").split("\n")
            head = json.loads(first)
            entries = [json.loads(line) for line in lines[:-1]]
            if head["format"] != FORMAT:
                raise ValueError
            if head["key"] == key:
                made = cls(key, entries, file)
                if lines[-1:] != [""]:  # the line that a killed process has not finished
                    with keep_existing(False):  # its own file
                        write_text(file, "\n".join([first, *lines[:-1], ""]))
                return made
        except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
            raise DataError(f"{file.name} is no journal of a comparison: choose another file") from error
        raise DataError(f"{file.name} belongs to other rows, columns, folds, model or seed: choose another file")

    @classmethod
    def saved(cls, given: Mapping[str, Any], key: str) -> LearnedSets:
        """What a saved comparison holds.

        Raises
        ------
        DataError
            When it belongs to other data, or is damaged.
        """
        if given.get("key") != key:
            raise DataError("the table or its options have changed since this comparison was saved: compare again")
        try:
            return cls(key, given["entries"])
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            raise DataError("the saved comparison is damaged: compare again") from error

    def known(self, method: Method, fold: int | None) -> FoldSets | str | None:
        return self._known.get((repr(method), fold))

    def add(self, method: Method, fold: int | None, result: FoldSets | str) -> None:
        if (repr(method), fold) in self._known:
            return
        self._known[repr(method), fold] = result
        if self.path is not None:
            line = json.dumps({"method": repr(method), "fold": fold, "result": as_plain(result)}, ensure_ascii=False)
            with self._lock, self.path.open("a", encoding="utf-8") as out:
                out.write(line + "\n")

    def entries(self) -> list[dict[str, Any]]:
        return [{"method": m, "fold": k, "result": as_plain(r)} for (m, k), r in self._known.items()]
