"""What a selection holds."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field

from chaff.decide.selection_checks import check_plan, check_scores
from chaff.decide.selection_parts import (
    AboutPart,
    DataPart,
    DerivedPart,
    DroppedPart,
    HoldoutPart,
    KeptPart,
    Part,
    ReviewPart,
    StepPart,
    TargetPart,
)
from chaff.errors import UsageError
from chaff.table.terms import Terms


class SelectionData(Part):
    """The keys of the file, and what follows from them."""

    format: Literal["chaff selection"] = "chaff selection"
    version: Literal[3] = 3
    target: TargetPart
    kept: list[KeptPart]
    dropped: list[DroppedPart]
    review: list[ReviewPart]
    derived: list[DerivedPart] = Field(default_factory=list)
    history: list[StepPart] = Field(default_factory=list)
    """Every verdict on every column, in the order in which they were given."""
    descriptions: dict[str, AboutPart] = Field(default_factory=dict)
    """Of every column that went: kind, unit and meaning."""
    model: Any = None
    """The model that decided, as a plan says it."""
    ranks: dict[str, dict[str, int]] = Field(default_factory=dict)
    """Stage → column → its rank there, 1 for the best."""
    selection_frequencies: dict[str, float] = Field(default_factory=dict)
    """In how many of the outer folds a column was kept."""
    interchangeable: list[list[str]] = Field(default_factory=list)
    """Pairs of which the folds kept the one or the other."""
    holdout: HoldoutPart = Field(default_factory=HoldoutPart)
    scores: Annotated[dict[str, Any], AfterValidator(check_scores)] = Field(default_factory=dict)
    plan: Annotated[dict[str, Any], AfterValidator(check_plan)] = Field(default_factory=dict)
    seed: int = 0
    data: DataPart
    made_with: dict[str, str] = Field(default_factory=dict)
    checksum: str = ""
    """SHA-256 of everything else in the file: what was changed by hand afterwards shows."""

    @cached_property
    def terms(self) -> Terms:
        """How the table was opened: roles, and how text is read, so that `apply` reads new rows alike."""
        table = self.plan.get("table", {})
        if not isinstance(table, dict):
            raise UsageError(f"plan.table must be a table, not {table!r}")
        return Terms.from_settings(**table)

    @property
    def features(self) -> tuple[str, ...]:
        """Names of the kept features, in the order of the table."""
        return tuple(k.name for k in self.kept)
