"""The parts of a selection, as they stand in its file.

What a selection holds.
"""

from __future__ import annotations

from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from chaff.decide.selection_checks import check_bitmap, check_plan, check_scores
from chaff.errors import UsageError
from chaff.table.terms import Terms

Share = Annotated[float, Field(ge=0.0, le=1.0)]
Within = Annotated[float, Field(ge=-1.0, le=1.0)]
Slope = Annotated[float, Field(ge=-1e6, le=1e6)]
Step = Annotated[list[float], Field(min_length=3, max_length=3)]


class Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class TargetPart(Part):
    """The column to predict."""

    name: str
    task: Literal["regression", "classification"]
    unit: str = ""
    classes: list[str] = Field(default_factory=list)
    positive: str | None = None
    distribution: ShapePart | None = None


class ShapePart(Part):
    """How the values of a column were spread over the training rows."""

    rows: int = Field(ge=0)
    missing_share: Share = 0.0
    steps: list[Step] = Field(default_factory=list)
    """Of a number: [value, share of rows below it, share at or below it], about twenty of them."""
    levels: dict[str, Share] = Field(default_factory=dict)
    """Of words: level to share."""


class StepPart(Part):
    """What one stage said of one column."""

    feature: str
    stage: str
    verdict: Literal["keep", "drop", "review"]
    stays: bool
    figure: str = ""
    limit: str = ""
    reason: str = ""
    measured: str = ""
    """What it measured, in words."""


class RelationPart(Part):
    """How a kept column went with the target on the training rows."""

    edges: list[float] = Field(default_factory=list)
    """Of a number: the inner edges of its bins."""
    levels: list[str] = Field(default_factory=list)
    """Of words: the levels that are bins; a last bin holds the gaps."""
    means: list[list[Within]] = Field(default_factory=list)
    """A line a bin: mean rank of the target (0 to 1), or share of each class but the last, less that of all rows."""
    errors: list[list[Within]] = Field(default_factory=list)
    rows: list[int] = Field(default_factory=list)
    slopes: list[Slope] = Field(default_factory=list)
    """Of its ranks beside those of the other number columns, least squares."""
    slope_errors: list[Slope] = Field(default_factory=list)

    @model_validator(mode="after")
    def _fits_together(self) -> RelationPart:
        bins = (len(self.levels) or len(self.edges) + 1) + 1
        lines = {len(line) for line in (*self.means, *self.errors)}
        if {len(self.means), len(self.errors), len(self.rows)} != {bins} or len(lines) != 1 or len(self.slopes) != len(self.slope_errors):
            raise ValueError("its bins, means, errors and slopes do not belong together")
        if (
            self.edges != sorted(self.edges)
            or min(min(line) for line in (*self.errors, [0.0])) < 0
            or min(self.slope_errors, default=0) < 0
        ):
            raise ValueError("its edges ascend, and its errors are 0 or more")
        return self


class KeptPart(Part):
    """A column that stays, and what new data must look like."""

    name: str
    kind: Literal["number", "binary", "category", "date", "text"]
    words: bool = False
    """Whether its cells are words (a category, or a binary column such as yes/no) and not numbers."""
    range: Annotated[list[float], Field(min_length=2, max_length=2)] | None = None
    levels: list[str] | None = None
    missing_share: Share = 0.0
    unit: str = ""
    meaning: str = ""
    members: list[str] | None = None
    """Columns behind a feature declared with `together`."""
    verdict: Literal["keep", "review"] = "keep"
    figure: str = ""
    reason: str = ""
    distribution: ShapePart | None = None
    relation: RelationPart | None = None


class DroppedPart(Part):
    """A column that went."""

    name: str
    stage: str
    figure: str = ""
    limit: str = ""
    reason: str = ""


class ReviewPart(Part):
    """A column that the user should look at."""

    name: str
    stage: str
    blocked: bool
    figure: str = ""
    limit: str = ""
    reason: str = ""


class AboutPart(Part):
    """What is known of a column that went."""

    kind: str = ""
    unit: str = ""
    meaning: str = ""


class ProtectedPart(Part):
    """What the kept columns tell of a column that must not be used."""

    explained: float
    """Share of the baseline loss that they remove, on test folds."""
    explained_se: float | None = None
    significant: bool = False
    carriers: dict[str, float] = Field(default_factory=dict)
    """Kept columns that carry it → the share of it that is lost without each."""


class DerivedPart(Part):
    """A kept column that `apply` makes: a flag of what is missing in `of`, `of` with its gaps filled, or a number from its date."""

    name: str
    made: Literal["missing flag", "fill", "age", "year", "month", "weekday", "hour", "since"]
    of: str
    value: float | str | None = None


class HoldoutPart(Part):
    """The rows that were set aside before anything was looked at."""

    rows: str = ""
    """SHA-256 of the row numbers."""
    bitmap: Annotated[str, AfterValidator(check_bitmap)] = ""
    """The rows themselves: one bit a row of the source, packed, deflated, base64."""
    count: int = Field(default=0, ge=0)
    share: Share = 0.0
    how: str = "none"
    reads: int = 0
    """How often these rows have been read, that run included."""
    counted: bool = True
    """Whether reads were counted across runs; otherwise `reads` knows of that run alone."""
    pinned_after: list[str] = Field(default_factory=list)
    """Features that were pinned after these rows had been read: their score is no evidence for the pin."""


class DataPart(Part):
    """The table that the selection was made on."""

    source: str = ""
    rows: int
    columns: list[str]
    fingerprint: str


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
    protected: dict[str, ProtectedPart] = Field(default_factory=dict)
    """Of every protected column, how well the kept ones predict it."""
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
