"""Leaks: the one rule by which a feature is too good to be true, whatever its share of the target was measured by."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

NEARLY_ALL = 0.95  # share of the target that a feature explains alone
MUCH, MUCH_OF_CLASSES = 0.8, 0.5  # from which standing far above all others is odd; no column predicts class indicators perfectly
FAR_ABOVE = 3.0


@dataclass(frozen=True)
class Suspicion:
    """Why a feature is suspected."""

    score: float
    limit: str
    reason: str


@dataclass(frozen=True)
class LeakRule:
    """A feature is suspected when it explains nearly all by itself, or much and far more than the next.

    `too_good` None and `far_above` None switch the two halves off.
    """

    classes: bool
    too_good: float | None = NEARLY_ALL
    far_above: float | None = FAR_ABOVE

    def suspects(self, explained: Mapping[str, float]) -> dict[str, Suspicion]:
        """Feature → why, from the share of the target that each explains alone (R²); a feature without a figure is left out."""
        known = {f: float(v) for f, v in explained.items() if v == v}
        ranked = sorted(known, key=lambda f: (-known[f], f))
        found = {}
        for f in ranked:
            if self.too_good is not None and known[f] >= self.too_good:
                reason = f"predicts the target almost alone (R² {known[f]:.2f}): was it written down after the fact?"
                found[f] = Suspicion(known[f], f"{self.too_good:g}", reason)
        best, second = (ranked[0] if ranked else ""), (known[ranked[1]] if len(ranked) > 1 else 0.0)
        if best and best not in found and self._stands_out(known[best], second):
            reason = f"predicts the target far better alone (R² {known[best]:.2f}) than the runner-up ({second:.2f}): a leak?"
            found[best] = Suspicion(known[best], f"{self.far_above:g} × next", reason)
        return found

    def _stands_out(self, first: float, second: float) -> bool:
        floor = MUCH_OF_CLASSES if self.classes else MUCH
        return self.far_above is not None and second > 0 and first >= floor and first >= self.far_above * second
