"""Verdict: what one stage says of one feature.

Pin: a user's own decision on a feature.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from chaff.results.shown import table_html
from chaff.visible import Shown


@dataclass(frozen=True)
class Pin:
    """A person's own decision on a feature, with a reason."""

    feature: str
    verdict: Literal["keep", "drop"]
    because: str


Word = Literal["keep", "drop", "review"]


@dataclass(frozen=True, repr=False)
class Verdict(Shown):
    """Every stage gives one for every feature it was offered."""

    feature: str
    verdict: Word
    stays: bool
    """Whether the feature goes on to the next stage. A `look` that does not stay is blocked until it is pinned in."""
    figure: str = ""
    """The number that decided, with its name: `vif 31.2`."""
    limit: str = ""
    """What it was held against: `10`."""
    reason: str = ""
    by: str = ""
    """The stage, or "pin"."""

    def __str__(self) -> str:
        """`protein_nir_pct: drop at overlap (pearson_r 0.987, limit 0.95): repeats protein_pct`."""
        held = ", ".join(w for w in (self.figure, f"limit {self.limit}" if self.limit else "") if w)
        blocked = ", blocked" if self.blocked else ""
        return (
            f"{self.feature}: {self.verdict}{blocked} at {self.by}"
            + (f" ({held})" if held else "")
            + (f": {self.reason}" if self.reason else "")
        )

    def _repr_html_(self) -> str:
        word = self.verdict + (", blocked" if self.blocked else "")
        return table_html(
            self.feature, ["verdict", "by", "figure", "limit", "reason"], [[word, self.by, self.figure, self.limit, self.reason]]
        )

    @property
    def blocked(self) -> bool:
        return self.verdict == "review" and not self.stays


def keep(feature: str, by: str, figure: str = "", limit: str = "", reason: str = "") -> Verdict:
    return Verdict(feature, "keep", True, figure, limit, reason, by)


def drop(feature: str, by: str, figure: str, limit: str, reason: str) -> Verdict:
    return Verdict(feature, "drop", False, figure, limit, reason, by)


def review(feature: str, by: str, figure: str, limit: str, reason: str, *, stays: bool) -> Verdict:
    return Verdict(feature, "review", stays, figure, limit, reason, by)
