"""What sets of features cost to measure: single features by themselves, panels once for all their features."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from chaff.table.table import Table

HAIR = 1 + 1e-12  # so that rounding of a sum does not cost what lies on the edge


@dataclass(frozen=True)
class Prices:
    """Costs of single features, and of panels: one measurement that gives several features, paid once however many are used."""

    single: Mapping[str, float] = field(default_factory=dict)
    panels: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Panel → its features; its cost stands in `single` under its own name."""

    @classmethod
    def of(cls, table: Table) -> Prices:
        """What the table's terms say (`costs`, `panels`)."""
        return cls(dict(table.terms.costs), {k: tuple(map(str, v)) for k, v in table.terms.panels.items()})

    def __bool__(self) -> bool:
        return bool(self.single)

    @cached_property
    def _panel_of(self) -> dict[str, str]:
        return {f: name for name, members in self.panels.items() for f in members}

    def of_set(self, features: Iterable[str]) -> float:
        """What measuring these features costs together; what has no cost is free."""
        held = set(features)
        opened = {self._panel_of[f] for f in held if f in self._panel_of}
        return float(sum(self.single.get(name, 0.0) for name in (held | opened)))

    def allow(self, features: Iterable[str], total: float | None) -> bool:
        """Whether these features cost no more than a total; None for any."""
        return total is None or self.of_set(features) <= total * HAIR
