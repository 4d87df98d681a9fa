"""Kinds: what a column holds (number, binary, category, date, text), found out from its values or told by the user.

Words that stand in an order - bands, `10-19`, `< 5`, low to high - read as one number each.

Words that are numbers: one reading for a table and for `apply`, whatever wrote them.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal, get_args

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.errors import DataError
from chaff.table.dates import date_format_of, days_of, days_of_stored, is_iso

NUMBER = r"[-+]?\d+(?:\.\d+)?"
UNIT = r"\s*[^\W\d_%€$£]{0,8}[%€$£]?\s*"
BETWEEN = re.compile(rf"[\[(]?\s*({NUMBER}){UNIT}(?:-|–|—|to|,|\.\.|:)\s*({NUMBER}){UNIT}[\])]?", re.IGNORECASE)
BELOW = re.compile(rf"(?:<=?|≤|under|below|up to|less than)\s*({NUMBER}){UNIT}", re.IGNORECASE)
ABOVE = re.compile(
    rf"(?:>=?|≥|over|above|more than|from)\s*({NUMBER}){UNIT}|({NUMBER}){UNIT}(?:\+|and (?:more|over|above)|or more)", re.IGNORECASE
)
ALONE = re.compile(rf"({NUMBER}){UNIT}")
SCALES: tuple[tuple[str, ...], ...] = (
    ("none", "very low", "low", "medium", "high", "very high"),
    ("none", "very low", "low", "moderate", "high", "very high"),
    ("none", "very low", "low", "normal", "high", "very high"),
    ("none", "very low", "low", "mid", "high", "very high"),
    ("none", "", "mild", "moderate", "severe", "very severe"),  # a word has one place, whatever else is in the file
    ("xxs", "xs", "s", "m", "l", "xl", "xxl", "xxxl"),
    ("", "very small", "small", "medium", "large", "very large"),
    ("very poor", "poor", "fair", "good", "very good", "excellent"),
    ("never", "rarely", "sometimes", "often", "always"),
    ("very bad", "bad", "average", "good", "very good"),
    ("first", "second", "third", "fourth", "fifth"),
)
HAIR = 1e-3  # of one: `< 5` lies just under 5, `5+` just above


def ordered_values(words: Sequence[str], declared: bool = False) -> dict[str, float] | None:
    """Word → number, where all words are bands of numbers or of one scale.

    Unless the user `told` so: three words at least, and of bands one at least not a plain number.
    """
    if len(words) < 3 and not declared:
        return None
    bands = {w: _band(w) for w in words}
    if all(v is not None for v in bands.values()) and (declared or not all(ALONE.fullmatch(w.strip()) for w in words)):
        return {w: float(v) for w, v in bands.items() if v is not None}
    for scale in SCALES:
        result = {w: float(scale.index(w.strip().lower())) for w in words if w.strip().lower() in scale and w.strip()}
        if len(result) == len(words):
            return result
    return None


def listed_values(words: Sequence[str], order: Sequence[str]) -> dict[str, float] | None:
    """Word → place in an order that the user wrote down; None where a word is not in it."""
    place = {w.strip(): float(k) for k, w in enumerate(order)}
    return {w: place[w.strip()] for w in words} if all(w.strip() in place for w in words) else None


def _band(word: str) -> float | None:
    word = word.strip()
    between = BETWEEN.fullmatch(word)
    if between:
        return (float(between[1]) + float(between[2])) / 2
    below = BELOW.fullmatch(word)
    if below:
        return float(below[1]) - HAIR
    above = ABOVE.fullmatch(word)
    if above:
        return float(above[1] or above[2]) + HAIR
    alone = ALONE.fullmatch(word)
    return float(alone[1]) if alone else None


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


Kind = Literal["number", "binary", "category", "date", "text"]
KINDS: tuple[str, ...] = get_args(Kind)
MISSING_LEVEL = "(missing)"
TEXT_LENGTH = 40  # mean letters from which words are text, not levels


@dataclass(frozen=True)
class Column:
    """One column, decoded. `values` are float64 with NaN where missing, whatever the kind: the number itself, 0 or 1 for a
    binary column, the place in `levels` for a category or text, days since 1970 for a date."""

    name: str
    kind: Kind
    values: Floats
    levels: tuple[str, ...] = ()
    whole: bool = False
    """Whether a number column was stored as whole numbers."""

    @property
    def missing(self) -> Flags:
        return np.isnan(self.values)

    def take(self, rows: Ints | None) -> Column:
        return self if rows is None else replace(self, values=self.values[rows])


def decode(name: str, chunked: Any, text: str | None, decimal: str | None = None, date_format: str | None = None) -> Column:
    """A column from an Arrow chunked array; `told` is the kind the user set, or None to infer it."""
    import pyarrow as pa
    import pyarrow.types as pt

    kind = chunked.type
    if pt.is_dictionary(kind):
        chunked = chunked.cast(kind.value_type)
        kind = chunked.type
    if pt.is_null(kind):
        return Column(name, text or "number", np.full(len(chunked), np.nan))  # type: ignore[arg-type]
    if pt.is_boolean(kind):
        return _with_kind(_two_levels(name, chunked.cast(pa.float64()), ("False", "True")), text)
    if pt.is_integer(kind) and text in ("category", "text") and beyond_floats(chunked):
        return _from_words(name, chunked.cast(pa.string()), text, None, None)
    if pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind):
        values = floats_of(chunked.cast(pa.float64(), safe=False))
        return from_numbers(name, values, bool(pt.is_integer(kind)), text)
    if pt.is_time(kind) or pt.is_duration(kind):
        return from_numbers(name, days_of_stored(name, chunked), False, text)  # hours: a time without a date is no date
    if pt.is_temporal(kind) and not pt.is_interval(kind):
        return _with_kind(Column(name, "date", days_of_stored(name, chunked)), text)
    if pt.is_string(kind) or pt.is_large_string(kind) or pt.is_string_view(kind):
        return _from_words(name, chunked, text, decimal, date_format)
    raise DataError(f"column '{name}' holds {kind} values, which no kind fits: take it apart first, or put it under ignore")


def beyond_floats(chunked: Any) -> bool:
    """Whether whole numbers are so large that floating point would make different ones equal."""
    import pyarrow.compute as pc
    import pyarrow.types as pt

    if not pt.is_integer(chunked.type) or len(chunked) == chunked.null_count:
        return False
    ends = pc.min_max(chunked)
    answer: bool = max(abs(ends["min"].as_py()), abs(ends["max"].as_py())) > EXACT_FLOATS
    return answer


def floats_of(chunked: Any) -> Floats:
    """Numbers of an Arrow column: NaN where null; Arrow hands the values over without a copy where it can, so they are never written to."""
    return np.ascontiguousarray(chunked.to_numpy(), dtype=np.float64)


def number_word(value: float) -> str:
    """A number as the level of a category: whole numbers without a point."""
    return str(int(value)) if float(value).is_integer() and abs(value) < 1e15 else repr(float(value))


def from_numbers(name: str, values: Floats, whole: bool, text: str | None) -> Column:
    """A column of numbers under its kind; the very values where they stay as they are."""
    gaps = np.isnan(values)
    present = values[~gaps] if gaps.any() else values  # not copied where nothing is missing: it may lie on disk
    if not whole and present.size and np.isfinite(present).all():
        whole = bool((present[:1000] == np.floor(present[:1000])).all() and (present == np.floor(present)).all())
    few = _few_distinct(present, 2)
    if text in (None, "binary") and few is not None and few.size == 2:
        coded = np.where(np.isnan(values), np.nan, (values == few[1]).astype(float))
        return Column(name, "binary", coded, (number_word(few[0]), number_word(few[1])), whole)
    if text == "binary":
        raise DataError(f"column '{name}' was set to binary but does not hold exactly two values")
    if text in (None, "number") or is_ordered(text):
        return Column(name, "number", values, (), whole)
    if text == "date":
        raise DataError(f"column '{name}' was set to date but holds plain numbers")
    distinct, codes = np.unique(present, return_inverse=True)
    coded = np.full(values.size, np.nan)
    coded[~np.isnan(values)] = codes
    return Column(name, text, coded, tuple(number_word(v) for v in distinct))  # type: ignore[arg-type]


def _few_distinct(values: Floats, most: int) -> Floats | None:
    """Sorted distinct values when there are at most `most`; a peek at the head spares the sort of a long column."""
    if np.unique(values[:64]).size > most:
        return None
    distinct: Floats = np.unique(values)
    return distinct if distinct.size <= most else None


def _two_levels(name: str, chunked: Any, levels: tuple[str, str]) -> Column:
    return Column(name, "binary", floats_of(chunked), levels)


def _from_words(name: str, chunked: Any, text: str | None, decimal: str | None, date_format: str | None) -> Column:
    encoded = chunked.combine_chunks().dictionary_encode()
    words = [str(w) for w in encoded.dictionary.to_pylist()]
    codes = np.asarray(encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False), np.int64)
    order = sorted(range(len(words)), key=lambda k: words[k])
    place = np.empty(len(words) + 1)
    place[order] = np.arange(len(words))
    place[-1] = np.nan
    values = place[codes]
    levels = tuple(words[k] for k in order)
    if text is not None and is_ordered(text):
        return _from_ordered_words(name, values, levels, text)
    if text in (None, "number"):
        numbers = numbers_of(levels, decimal)
        parsed = _fromnumber_words(name, values, levels, numbers, text)
        if parsed is not None:
            return parsed
    if text == "date" or date_format or (text is None and levels and (is_iso(levels) or date_format_of(levels))):
        full = np.append(days_of(name, levels, date_format), np.nan)
        return Column(name, "date", full[np.where(np.isnan(values), len(levels), values).astype(int)])
    if text == "binary" and len(levels) != 2:
        raise DataError(f"column '{name}' was set to binary but has {len(levels)} levels")
    if text is None:
        text = "binary" if len(levels) == 2 else "text" if _reads_as_text(levels) else "category"
    return Column(name, text, values, levels)  # type: ignore[arg-type]


def is_ordered(text: str) -> bool:
    """Whether a kind says that words stand in an order: "ordered", or the order itself, `low < medium < high`."""
    return text == "ordered" or len([w for w in text.split("<") if w.strip()]) > 1


def _from_ordered_words(name: str, values: Floats, levels: tuple[str, ...], text: str) -> Column:
    if text == "ordered":
        numbers = ordered_values(levels, declared=True)
        help_with = f"write the order down: kinds={{'{name}': 'low < medium < high'}} (--kind '{name}=low<medium<high')"
    else:
        order = [w.strip() for w in text.split("<")]
        numbers = listed_values(levels, order)
        help_with = f"it has also {', '.join(repr(w) for w in levels if w.strip() not in order)}"[:200]
    if numbers is None:
        subset = ", ".join(f"'{w}'" for w in levels[:4])
        raise DataError(f"column '{name}' was set to {text} but its words ({subset}) are not in it: {help_with}")
    full = np.append([numbers[w] for w in levels], np.nan)
    return Column(name, "number", full[np.where(np.isnan(values), len(levels), values).astype(int)])


def _fromnumber_words(name: str, values: Floats, levels: tuple[str, ...], numbers: Floats, text: str | None) -> Column | None:
    """Words that are all numbers become numbers; a mixture is refused, since guessing would drop cells silently."""
    if not levels:
        return None
    wrong = np.isnan(numbers)
    present = values[~np.isnan(values)].astype(int)
    counts = np.bincount(present, minlength=len(levels))
    if not wrong.any():
        if text is None and len(levels) <= 10:
            return None
        full = np.append(numbers, np.nan)
        return from_numbers(name, full[np.where(np.isnan(values), len(levels), values).astype(int)], False, text)
    bad = int(counts[wrong].sum())
    if text == "number" or (counts[~wrong].sum() > bad and (~wrong).sum() >= 3):
        seen = [levels[k] for k in np.flatnonzero(wrong)][:4]
        shown = ", ".join(f"'{w}'" for w in seen)
        raise DataError(
            f"column '{name}' mixes numbers and text: {bad:,} of {present.size:,} cells are not numbers ({shown}). "
            f"If they mean missing, pass missing=[{shown}] (--missing {seen[0]!r}); otherwise set its kind to category: "
            f"kinds={{{name!r}: 'category'}} (--kind {shlex.quote(f'{name}=category')})"
        )
    return None


def _reads_as_text(levels: tuple[str, ...]) -> bool:
    subset = levels[:500]
    return bool(subset) and sum(map(len, subset)) / len(subset) > TEXT_LENGTH


def _with_kind(column: Column, text: str | None) -> Column:
    """A date or yes/no column under another kind, where that makes sense."""
    if text is None or text == column.kind:
        return column
    if column.kind == "binary" and text in ("category", "number"):
        return replace(column, kind=text, levels=column.levels if text == "category" else ())  # type: ignore[arg-type]
    raise DataError(f"column '{column.name}' holds {column.kind} values and cannot be read as {text}")
