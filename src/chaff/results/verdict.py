"""Verdict: what one stage says of one feature."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Word = Literal["keep", "drop", "look"]


@dataclass(frozen=True)
class Verdict:
    """Every stage gives one for every feature it was offered."""

    feature: str
    verdict: Word
    stays: bool
    """Whether the feature goes on to the next stage. A `look` that does not stay is barred until it is pinned in."""
    figure: str = ""
    """The number that decided, with its name: `vif 31.2`."""
    limit: str = ""
    """What it was held against: `10`."""
    reason: str = ""
    by: str = ""
    """The stage, or "pin"."""

    @property
    def barred(self) -> bool:
        return self.verdict == "look" and not self.stays


def keep(feature: str, by: str, figure: str = "", limit: str = "", reason: str = "") -> Verdict:
    return Verdict(feature, "keep", True, figure, limit, reason, by)


def drop(feature: str, by: str, figure: str, limit: str, reason: str) -> Verdict:
    return Verdict(feature, "drop", False, figure, limit, reason, by)


def look(feature: str, by: str, figure: str, limit: str, reason: str, *, stays: bool) -> Verdict:
    return Verdict(feature, "look", stays, figure, limit, reason, by)
