"""How text files are read, told or to be found out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from chaff.errors import DataError


@dataclass(frozen=True)
class Reading:
    """How text files are read; None means: find out.

    Parameters
    ----------
    delimiter, decimal, encoding : str or None
        Column separator, decimal mark ("." or ",") and text encoding of a CSV file.
    missing : sequence of str
        Words that stand for a missing cell. The empty cell always does; any other text, "NA" and "None" too, is a value.
    """

    delimiter: str | None = None
    decimal: str | None = None
    encoding: str | None = None
    missing: Sequence[str] = ()
    words: Sequence[str] = ()
    """Columns that are read as words even where all cells look like numbers: `007` stays `007`."""


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
