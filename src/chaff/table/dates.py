"""Dates: one format for a column, found from all of its cells or told, never cell by cell.

04/01 and 13/01 of one column are either both days first or both months first; reading each as it fits moves days by months.

Numbers from dates: age against a fixed day, year, month, weekday, hour, and the days since another date.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, date, datetime, timedelta
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.errors import DataError

ISO = re.compile(r"\d{8}T\d{4}(\d{2})?Z?|\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}([.,]\d{1,9})?)?(Z| ?[+-]\d{2}:?\d{2})?)?")
DAYS = (
    "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%Y/%m/%d", "%d-%m-%Y", "%m-%d-%Y", "%Y.%m.%d", "%d %b %Y", "%d %B %Y", "%b %d, %Y", "%B %d, %Y",
    "%d-%b-%Y", "%d.%m.%y", "%d/%m/%y", "%m/%d/%y",
)  # fmt: skip
CLOCKS = ("", " %H:%M", " %H:%M:%S", "T%H:%M:%S", " %I:%M %p", " %H:%M:%S.%f")
TRIED = 40  # words on which a format is tried before all are
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def is_iso(words: Sequence[str]) -> bool:
    return bool(words) and all(ISO.fullmatch(w.strip()) for w in words)


def formats_that_fit(words: Sequence[str]) -> list[str]:
    """Every format under which all words are dates."""
    subset = list(words[:TRIED])
    fits = [d + c for d in DAYS for c in CLOCKS if all(_parsed(w, d + c) is not None for w in subset)]
    return [f for f in fits if all(_parsed(w, f) is not None for w in words)]


def date_format_of(words: Sequence[str]) -> str:
    """The format of a column that was not declared: "" for none, or where two fit and say different days."""
    if not words or not any(c.isdigit() for c in words[0]):
        return ""
    fits = formats_that_fit(words)
    return fits[0] if fits and _agree(words, fits) else ""


def stored_format(cells: Any) -> str:
    """The format in which an Arrow column of words holds its dates; "" for ISO dates and for what is stored as dates."""
    import pyarrow.types as pt

    if not (pt.is_string(cells.type) or pt.is_large_string(cells.type) or pt.is_string_view(cells.type)):
        return ""
    words = cells.unique().drop_null().to_pylist()
    return "" if is_iso(words) else date_format_of(words)


def _agree(words: Sequence[str], fits: Sequence[str]) -> bool:
    first = [_parsed(w, fits[0]) for w in words]
    return all([_parsed(w, f) for w in words] == first for f in fits[1:])


def days_of(name: str, words: Sequence[str], text: str | None = None) -> Floats:
    """Days since 1970 of each word, in one format.

    Raises
    ------
    DataError
        When none fits all words, or more than one does and they disagree.
    """
    if text:
        stamps = [_parsed(w, text) for w in words]
        wrong = [w for w, s in zip(words, stamps, strict=True) if s is None]
        if wrong:
            raise DataError(f"column '{name}' was said to hold dates as {text}, but '{wrong[0]}' is none")
        return np.array([_days(s) for s in stamps if s is not None])
    if is_iso(words):
        return np.array([_days(_iso(name, w)) for w in words])
    fits = formats_that_fit(words)
    if not fits:
        odd = next((w for w in words if not any(c.isdigit() for c in w)), words[0])
        raise DataError(
            f"column '{name}' was set to date but no one format fits all its cells (such as '{odd}'): say which with "
            f"dates={{'{name}': '%d.%m.%Y'}} (--date {name}=%d.%m.%Y)"
        )
    if not _agree(words, fits):
        raise DataError(
            f"the dates of column '{name}' (such as '{words[0]}') can be read as {' or as '.join(fits[:2])}, which are different days: "
            f"say which with dates={{'{name}': '{fits[0]}'}} (--date {name}={fits[0]})"
        )
    return np.array([_days(s) for s in (_parsed(w, fits[0]) for w in words) if s is not None])


def _parsed(word: str, form: str) -> datetime | None:
    try:
        return datetime.strptime(word.strip(), form)
    except (ValueError, OverflowError):
        return None


def _iso(name: str, word: str) -> datetime:
    word = word.strip().replace(",", ".").replace(" +", "+").replace(" -", "-")
    try:
        cut = re.sub(r"(\.\d{6})\d+", r"\1", word)
        return datetime.fromisoformat(cut.replace("Z", "+00:00"))
    except (ValueError, OverflowError) as error:
        raise DataError(f"column '{name}' was set to date but '{word}' is not one") from error


def _days(stamp: datetime) -> float:
    if stamp.tzinfo is None:
        stamp = stamp.replace(tzinfo=UTC)
    try:
        return (stamp - EPOCH) / timedelta(days=1)
    except OverflowError:
        return float((stamp.date() - date(1970, 1, 1)).days)


def days_of_stored(name: str, cells: Any) -> Floats:
    """Days since 1970 of Arrow dates and times; hours of times that have no date. NaN where missing."""
    import pyarrow as pa
    import pyarrow.compute as pc
    import pyarrow.types as pt

    kind = cells.type
    if pt.is_date32(kind):
        counts, a_day = cells.cast(pa.int32()).cast(pa.int64()), 1.0
    elif pt.is_date64(kind):
        counts, a_day = cells.cast(pa.int64()), 86_400e3
    else:
        unit = {"s": 1.0, "ms": 1e3, "us": 1e6, "ns": 1e9}[kind.unit]
        whole = cells.cast(pa.int32()).cast(pa.int64()) if pt.is_time32(kind) else cells.cast(pa.int64())
        counts, a_day = whole, unit * (86_400.0 if pt.is_timestamp(kind) else 3_600.0)
    values = pc.cast(counts, pa.float64(), safe=False).to_numpy()
    return np.asarray(values, dtype=np.float64) / a_day
