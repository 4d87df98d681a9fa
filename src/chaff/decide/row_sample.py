"""Desk: the rows that models and searches work on. All of them, or of a long table a sample that is said.

What is known of a difference between two sets grows with the root of the rows, what it costs with the rows themselves. On 40,000 rows a
paired difference in R² is known to some 0.002 (benchmarks/README.md), a tenth of what the size rule allows; sums (overlap, the screen's
drops) are taken over every row all the same.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from chaff.arrays import Ints
from chaff.errors import DataError
from chaff.memory import size_in_words
from chaff.table.large_tables import COPIES, PROGRAM, VECTORS
from chaff.table.table import Table
from chaff.work import Work

UP_TO = 50_000  # rows that are all seen: to leave a few out would gain nothing
ROWS = 40_000  # for models, of more; as many of the holdout
SEEN = 100_000  # rows of a table on disk that figures of single columns are made of
SPREAD = 0.4  # of the paired difference of one row, in R²: measured in benchmarks/scale.py
SPREAD_CLASSES = 0.25  # in log-loss: measured in benchmarks/rows_for_error.py
IN_PASSES = 80.0  # numbers a row that are held where everything is sums, bytes in scratch and single columns
MATRIX = 10.0  # times that a table's numbers are held where all columns stand side by side
RAREST = 1_000  # rows of the rarest class that are wanted
MOST = 4  # times as many rows at the most for its sake
FETCHED = 5_000  # columns whose drawn rows are taken at once
LEAST = 1_000  # rows that memory has to have room for


@dataclass(frozen=True)
class RowSample:
    """What models see of a table."""

    table: Table = field(repr=False)
    """With these rows only; the very table where nothing is sampled."""
    rows: Ints = field(repr=False)
    """Training rows, as positions in `table`."""
    held: Ints = field(repr=False)
    """Holdout rows, as positions in `table`."""
    train: Table = field(repr=False)
    words: str = ""
    """What is said of it; empty where nothing is sampled."""

    @property
    def sampled(self) -> bool:
        return bool(self.words)


def row_sample_of(
    table: Table, rows: Ints, held: Ints, given: int | float | str, work: Work, in_passes: bool = False, columns: int | None = None
) -> RowSample:
    """The rows that models see.

    Parameters
    ----------
    rows, held : int64, ascending
        Training and holdout rows as positions in `table`.
    given : "auto", "all", int or float
        How many training rows; below 1 the standard error that is wanted of a difference.
    in_passes : bool
        Whether no model needs its rows side by side in memory: every row may then be asked for, however many there are.
    columns : int or None
        How many stand side by side at the most; all of them when left out.

    Raises
    ------
    DataError
        When so many do not fit into the memory that was said.
    """
    train = table.take(rows)
    subset = _drawn(train, _wanted(train, given, COPIES, in_passes, columns), "rows of the models", work)
    of_held = _drawn(table.take(held), ROWS, "rows of the holdout", work) if held.size > UP_TO and given != "all" else None
    if subset is None and of_held is None:
        return RowSample(table, rows, held, train)
    own = rows if subset is None else rows[subset]
    theirs = held if of_held is None else held[of_held]
    both = np.sort(np.concatenate([own, theirs]))
    small = _sampled_table(table, both, work)
    at, at_held = np.searchsorted(both, own), np.searchsorted(both, theirs)
    return RowSample(small, at, at_held, small.take(at), _words(train, own.size, theirs.size, held.size))


def sample_of(
    table: Table, given: int | float | str | None, models: bool, work: Work, copies: float = COPIES, in_passes: bool = False
) -> tuple[Table, str]:
    """(what a single call sees, what is said of it): of a long table a sample, where models are fitted or the table is on disk.

    Parameters
    ----------
    given : int, float, "auto", "all" or None
    models : bool
        Whether models are fitted on it: then a sample is taken of a table in memory too.
    copies : float
        How often its numbers are held at a time.
    in_passes : bool
        See `desk_of`.

    Raises
    ------
    DataError
    """
    requested = given or "auto"
    if requested == "auto" and not models:
        if table.source.spill is None:
            return table, ""
        requested = _fitting(table, min(SEEN, len(table)), "auto", copies)
    subset = _drawn(table, _wanted(table, requested, copies, in_passes), "rows of the models", work)
    if subset is None:
        return table, ""
    words = f"{subset.size:,} of {len(table):,} rows are used, drawn at random (--rows all: every row)"
    return replace(_sampled_table(table, subset, work), drawn_from=table), f"{words}: the SE of a correlation is {subset.size**-0.5:.1g}"


def _sampled_table(table: Table, rows: Ints, work: Work) -> Table:
    small = table.take_rows(rows)
    if table.source.spill is not None and len(table.features) <= FETCHED:
        small.source.fetched(table.features, work)
    return small


def _words(train: Table, used: int, used_held: int, held: int) -> str:
    of_held = f" (and {used_held:,} of {held:,} held out)" if used_held < held else ""
    if used == len(train):
        return f"scored on {used_held:,} of {held:,} held out rows, drawn at random (rows='all', --rows all: every row)"
    drawn = f"{used:,} of {len(train):,} training rows{of_held}"
    words = f"models and searches use {drawn}, drawn at random (rows='all', --rows all: every row)"
    words += f"; a difference in {'log-loss' if train.target.classes else 'R²'} then has an SE of about {_spread(train) / used**0.5:.1g}"
    if train.target.classes:
        rarest = int(np.bincount(train.y.astype(int)).min() * used / len(train))
        words += f"; about {rarest:,} of the rarest class"
    return words


def _spread(train: Table) -> float:
    return SPREAD_CLASSES if train.target.classes else SPREAD


def _wanted(train: Table, given: int | float | str, copies: float, in_passes: bool, columns: int | None = None) -> int:
    if isinstance(given, float):
        given = max(LEAST, int(np.ceil((_spread(train) / given) ** 2)))
    n, wanted = len(train), given if isinstance(given, int) else len(train)
    if given == "auto":
        wanted = n if n <= UP_TO else ROWS
        if train.target.classes and n > UP_TO:
            rarest = int(np.bincount(train.y.astype(int)).min())
            wanted = int(np.clip(RAREST * n / max(rarest, 1), ROWS, min(n, MOST * ROWS)))
    if given == "all" and in_passes:
        return _in_passes(train)
    return _fitting(train, min(n, wanted), given, copies, columns)


def _in_passes(train: Table) -> int:
    """Every row, where memory has room for what is held a row however many columns there are."""
    limit = train.source.limit if train.source.spill is not None else None
    needed = PROGRAM + 8.0 * IN_PASSES * len(train)
    if limit is not None and needed > limit.memory:
        most = int((limit.memory - PROGRAM) / (8.0 * IN_PASSES))
        raise DataError(
            f"memory={size_in_words(limit.memory)} is too little for all {len(train):,} rows: {size_in_words(needed)} would do, "
            f"or rows={most:,} (--rows {most})"
        )
    return len(train)


def _fitting(train: Table, wanted: int, given: int | str, copies: float = COPIES, columns: int | None = None) -> int:
    """So many, or fewer where the memory that was said holds no more of a table on disk."""
    source = train.source
    if source.spill is None or source.limit is None:
        return wanted
    left = source.limit.memory - PROGRAM - 8.0 * VECTORS * source.rows
    wide = min(len(train.features), columns or len(train.features))
    most = int(left / (copies * 8 * max(1, wide)))
    if most >= wanted:
        return wanted
    if given != "auto" or most < LEAST:
        rows = max(wanted if given != "auto" else LEAST, LEAST)
        needed = PROGRAM + 8.0 * VECTORS * source.rows + copies * 8.0 * wide * rows
        raise DataError(
            f"memory={size_in_words(source.limit.memory)} is too little for models on {wanted:,} rows × {wide:,} columns: "
            f"{size_in_words(needed)} would do"
            + (f", or rows={most:,} (--rows {most})" if most >= LEAST else ", or fewer columns (chaff.triage, --ignore)")
        )
    return most


def _drawn(table: Table, wanted: int, name: str, work: Work) -> Ints | None:
    """Positions of so many rows, every class in its share; None for all."""
    n = len(table)
    if wanted >= n:
        return None
    rng = work.stream(name)
    if not table.target.classes:
        return np.sort(rng.choice(n, wanted, replace=False, shuffle=False))
    out = []
    for k in range(len(table.target.classes)):
        rows = np.flatnonzero(table.y == k)
        own = min(rows.size, max(2, round(wanted * rows.size / n)))
        out.append(rows[rng.choice(rows.size, own, replace=False, shuffle=False)] if own else rows[:0])
    return np.sort(np.concatenate(out))
