"""Words that stand in an order - bands, `10-19`, `< 5`, low to high - read as one number each.

The number of a word is its own, not its place among the words of a file: so new data with fewer or more of them read alike.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

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
