"""Pin: a user's own decision on a feature."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class Pin:
    """A person's own decision on a feature, with a reason."""

    feature: str
    verdict: Literal["keep", "drop"]
    because: str
