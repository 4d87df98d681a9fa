"""Findings: what one method measured, one row a feature."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from chaff.errors import UsageError, nearest

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Findings:
    """One method's measurements; text, tables and figures only format `frame`."""

    method: str
    frame: pd.DataFrame
    """Indexed by feature."""
    lead: str
    """The column that ranks."""
    higher_is_better: bool = True
    settings: Mapping[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    more: Mapping[str, pd.DataFrame] = field(default_factory=dict)
    """Further frames: matrices, pairs, trails of an elimination."""

    def ranked(self, by: str | None = None) -> pd.DataFrame:
        """The frame with the best first."""
        column = by or self.lead
        if column not in self.frame.columns:
            known = [str(c) for c in self.frame.columns]
            raise UsageError(f"{self.method} has no column '{column}'; there are {', '.join(known)}.{nearest(column, known)}")
        return self.frame.sort_values(column, ascending=not self.higher_is_better, kind="stable")

    def __str__(self) -> str:
        head = self.ranked().head(20)
        rest = len(self.frame) - len(head)
        tail = f"\n… and {rest} more" if rest else ""
        return f"{self.method} · {len(self.frame)} features · by {self.lead}\n{head.to_string(float_format='{:.3g}'.format)}{tail}"
