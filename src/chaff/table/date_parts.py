"""Numbers from dates: age against a fixed day, year, month, weekday, hour, and the days since another date."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError, nearest
from chaff.table.derived import Derived

PARTS = ("age", "year", "month", "weekday", "hour")
SINCE = "since:"
EPOCH = date(1970, 1, 1)
WHOLE = ("year", "month", "weekday", "hour")


def date_part(made: str, days: Floats, of: float | Floats) -> Floats:
    """float64 (rows,) from days since 1970; NaN where a date is missing.

    of : for an age the day that it is counted to, for `since` the other date's days.
    """
    if made == "age":
        return np.asarray(of - days)
    if made == "since":
        return np.asarray(days - of)
    out = np.full(days.shape, np.nan)
    there = np.isfinite(days)
    whole = np.floor(days[there])
    if made == "hour":
        out[there] = np.floor((days[there] - whole) * 24 + 1e-9)
    elif made == "weekday":
        out[there] = (whole + 3) % 7 + 1  # 1970 began with a Thursday; Monday is 1
    else:
        stamps = whole.astype(np.int64).astype("datetime64[D]")
        months = stamps.astype("datetime64[M]").astype(np.int64)
        out[there] = months // 12 + 1970 if made == "year" else months % 12 + 1
    return out


def others_in(parts: Sequence[str]) -> set[str]:
    """The other columns that these parts count from."""
    return {p.removeprefix(SINCE) for p in parts if p.startswith(SINCE)}


def derived_parts(name: str, parts: Sequence[str], last: float) -> tuple[tuple[Derived, ...], tuple[str, ...]]:
    """(the columns that come of a date, the parts with the day of an age written down).

    last : the day of the last row, to which an age is counted that names no day (`age:2026-03-31` does).

    Raises
    ------
    UsageError
    """
    made, fixed = [], []
    for part in map(str, parts):
        if part.startswith(SINCE) and part != SINCE:
            other = part.removeprefix(SINCE)
            made.append(Derived(f"{name}_days_since_{other}", "since", name, other))
        elif part.partition(":")[0] == "age":
            day = _day_of(name, part) if ":" in part else np.floor(last)
            part = f"age:{EPOCH + timedelta(days=int(day))}"
            made.append(Derived(f"{name}_age_days", "age", name, float(day)))
        elif part in PARTS:
            made.append(Derived(f"{name}_{part}", part, name))  # type: ignore[arg-type]
        else:
            known = [*PARTS, "age:DATE", "since:COLUMN"]
            raise UsageError(f"derive '{name}': unknown part '{part}'; choose from {', '.join(known)}.{nearest(part, PARTS)}")
        fixed.append(part)
    return tuple(made), tuple(fixed)


def _day_of(name: str, part: str) -> float:
    try:
        return float((date.fromisoformat(part.partition(":")[2]) - EPOCH).days)
    except ValueError as error:
        raise UsageError(f"derive '{name}': '{part}' must name a day such as age:2026-03-31") from error
