"""Names of columns, and errors of libraries, as messages need them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from chaff.errors import DataError


def refuse_twins(names: Sequence[str], label: str) -> None:
    for name in names:
        try:
            name.encode()
        except UnicodeError as error:
            raise DataError(
                f"{label} has a column named {name!a}, which contains an invalid Unicode character (lone surrogate): rename it"
            ) from error
    twins = sorted(n for n, k in Counter(names).items() if k > 1)
    if twins:
        listed = ", ".join(f"'{n}'" for n in twins)
        raise DataError(f"{label} has more than one column named {listed}: rename them, a name must say which column")


def first_line(error: BaseException) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0]
