"""Leaks: the one rule by which a feature is too good to be true, whatever its share of the target was measured by."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

NEARLY_ALL = 0.95  # share of the target that a feature explains alone
MUCH, MUCH_OF_CLASSES = 0.8, 0.5  # from which standing far above all others is odd; no column predicts class indicators perfectly
FAR_ABOVE = 3.0
LEFT_OVER = 3.0  # times as much of the target must the others leave unexplained: a good sensor among good sensors is no leak


ALONE = "possible leakage: predicts the target almost alone; no other feature to compare with. Was it recorded after the target was known?"


@dataclass(frozen=True)
class Suspicion:
    """Why a feature is suspected."""

    score: float
    limit: str
    reason: str
    blocked: bool
    """Whether it is kept out until the user says otherwise; looked at, and stays, where not."""


@dataclass(frozen=True)
class LeakRule:
    """A feature is suspected when it explains nearly all by itself, or much and far more than the next.

    Suspects are taken from the top, so that two leaks do not hide each other; a suspect is blocked only where all columns that are
    none leave much more unexplained - or, of classes, which no column's R² does justice to, where it parts them almost without a
    mistake and far above all others together. `too_good` None and `far_above` None switch the two halves off.
    """

    classes: bool
    too_good: float | None = NEARLY_ALL
    far_above: float | None = FAR_ABOVE

    def top(self, explained: Mapping[str, float]) -> tuple[str, ...]:
        """Those that have to be asked about: what they explain, the best first. The others are no suspects."""
        ranked = _ranked(explained)
        if self.too_good is not None:
            nearly = tuple(f for f in ranked if explained[f] >= self.too_good)
            if nearly:
                return nearly
        if ranked and self._stands_out(explained[ranked[0]], explained[ranked[1]] if len(ranked) > 1 else 0.0):
            return (ranked[0],)
        return ()

    def suspects(
        self, explained: Mapping[str, float], others: float | None = None, parts_classes: Collection[str] = ()
    ) -> dict[str, Suspicion]:
        """Feature → why, from the share of the target that each explains alone (R²); a feature without a figure is left out.

        others : what all columns that are no suspects explain together; the best of them alone where nothing else is known.
        parts_classes : features that put the classes in order almost without a mistake.
        """
        top = self.top(explained)
        rest = [explained[f] for f in _ranked(explained) if f not in top]
        next_best = rest[0] if rest else 0.0
        together = max(next_best, others if others is not None else next_best, 0.0)
        known = others is not None
        if top and not rest:
            return {f: Suspicion(explained[f], f"{self.too_good:g}" if self.too_good is not None else "", ALONE, False) for f in top}
        return {f: self._suspicion(explained[f], next_best, together, known, f in parts_classes) for f in top}

    def _suspicion(self, score: float, next_best: float, together: float, known: bool, parts: bool) -> Suspicion:
        all_others = f"all other features together {together:.2f}" if known else f"next-best feature {next_best:.2f}"
        if self.too_good is not None and score >= self.too_good:
            blocked = (1.0 - together) >= LEFT_OVER * (1.0 - score)
            worth_testing = (
                "Was it recorded after the target was known?"
                if blocked
                else "Other features predict as well; leakage only if it is recorded after the target."
            )
            reason = f"possible leakage: R² {score:.2f} alone; {all_others}. {worth_testing}"
            return Suspicion(score, f"{self.too_good:g}", reason, blocked)
        reason = f"possible leakage: R² {score:.2f} alone; next-best feature {next_best:.2f}; {all_others}"
        blocked = parts and self.far_above is not None and score >= self.far_above * together
        reason = reason if known else reason.replace(f", {all_others}", "")
        return Suspicion(score, f"{self.far_above:g} × next", reason, blocked)

    def _stands_out(self, first: float, second: float) -> bool:
        floor = MUCH_OF_CLASSES if self.classes else MUCH
        return self.far_above is not None and second > 0 and first >= floor and first >= self.far_above * second


def _ranked(explained: Mapping[str, float]) -> list[str]:
    known = {f: float(v) for f, v in explained.items() if v == v}
    return sorted(known, key=lambda f: (-known[f], f))
