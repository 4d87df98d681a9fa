"""Words that are numbers: one reading for a table and for `apply`, whatever wrote them."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from chaff.arrays import Floats

HEX = re.compile(r"\s*[-+]?0[xX][0-9a-fA-F]+\s*")
WHOLE = re.compile(r"\s*[-+]?[0-9]{1,18}\s*")
EXACT_FLOATS = 2**53
LONGEST = 400  # letters of a number: more are no number that anybody wrote


def numbers_of(words: Sequence[str], decimal: str | None = None) -> Floats:
    """The number that each word is, NaN where it is none: decimal points or commas, exponents, hexadecimal whole numbers."""
    import pandas as pd

    plain = [w if len(w) <= LONGEST else "" for w in words]
    if decimal == ",":
        plain = [
            w.replace(".", "").replace(",", ".") if re.search(r"\d\.\d{3}(\D|$)", w) and "," in w else w.replace(",", ".") for w in plain
        ]
    out = pd.to_numeric(pd.Series(plain, dtype=object), errors="coerce").to_numpy(dtype=float, copy=True)
    for k in np.flatnonzero(np.isnan(out)).tolist():
        if HEX.fullmatch(plain[k]):
            out[k] = float(int(plain[k].strip(), 16))
    answer: Floats = out
    return answer


def all_whole(words: Sequence[str]) -> bool:
    """Whether every word is written as a whole number."""
    return all(WHOLE.fullmatch(w) for w in words)
