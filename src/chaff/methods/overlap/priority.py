"""Of features that say the same, who goes: the less relevant, then the less complete, then the dearer, then the later by name."""

from __future__ import annotations

from dataclasses import dataclass

from chaff.evaluate.setting import Setting
from chaff.methods.relevance.stage import effect_sizes
from chaff.stats.tolerances import NEAR
from chaff.table.table import Table


@dataclass(frozen=True)
class Priority:
    """One feature's claim to stay."""

    pinned: bool
    relevance: float
    missing: float
    cost: float
    name: str
    """Breaks the last tie, so that the order of the columns decides nothing."""

    def going(self) -> tuple[float, float, float, float, str]:
        """Sorts so that what should go comes last."""
        return (-float(self.pinned), -round(self.relevance / NEAR) * NEAR, self.missing, self.cost, self.name)


def priorities(table: Table, setting: Setting) -> dict[str, Priority]:
    effects = effect_sizes(table, setting, table.features)
    return {
        f: Priority(setting.kept_by_pin(f), effects[f], float(table.column(f).missing.mean()), table.costs.get(f, 0.0), f)
        for f in table.features
    }


def why_stays(winner: Priority, loser: Priority) -> str:
    """The first difference that decided, in words."""
    if winner.pinned and not loser.pinned:
        return "it is pinned"
    if winner.going()[1] != loser.going()[1]:
        digits = next((d for d in (3, 5) if f"{winner.relevance:.{d}g}" != f"{loser.relevance:.{d}g}"), 8)
        return f"more relevant ({winner.relevance:.{digits}g} against {loser.relevance:.{digits}g})"
    if winner.missing != loser.missing:
        return f"fewer gaps ({winner.missing:.1%} against {loser.missing:.1%})"
    if winner.cost != loser.cost:
        return f"cheaper ({winner.cost:g} against {loser.cost:g})"
    return "twins: the choice is arbitrary, the first by name stays"
