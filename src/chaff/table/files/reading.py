"""How text files are read, told or to be found out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


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
