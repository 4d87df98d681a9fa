"""Selection: which columns stay and why, as a versioned file that can be applied to new data."""

from __future__ import annotations

import json
import platform
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from chaff.errors import ArgumentError, DataError, UsageError
from chaff.files import read_json, write_text
from chaff.table.terms import Terms

VERSION = 1


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class TargetPart(_Part):
    """The column to predict."""

    name: str
    task: Literal["regression", "classification"]
    unit: str = ""
    classes: list[str] = Field(default_factory=list)
    positive: str | None = None


class KeptPart(_Part):
    """A column that stays, and what new data must look like."""

    name: str
    kind: Literal["number", "binary", "category", "date", "text"]
    words: bool = False
    """Whether its cells are words (a category, or a binary column such as yes/no) and not numbers."""
    range: list[float] | None = None
    levels: list[str] | None = None
    missing_share: float = 0.0
    unit: str = ""
    meaning: str = ""
    members: list[str] | None = None
    """Columns behind a feature declared with `together`."""
    verdict: Literal["keep", "look"] = "keep"
    figure: str = ""
    reason: str = ""


class DroppedPart(_Part):
    """A column that went."""

    name: str
    stage: str
    figure: str = ""
    limit: str = ""
    reason: str = ""


class LookPart(_Part):
    """A column that a person should look at."""

    name: str
    stage: str
    barred: bool
    figure: str = ""
    limit: str = ""
    reason: str = ""


class DerivedPart(_Part):
    """A kept column that `apply` makes: a flag of what is missing in `of`, or `of` with its gaps filled."""

    name: str
    made: Literal["missing flag", "fill"]
    of: str
    value: float | str | None = None


class HoldoutPart(_Part):
    """The rows that were set aside before anything was looked at."""

    rows: str = ""
    """SHA-256 of the row numbers."""
    bitmap: str = ""
    """The rows themselves: one bit a row of the source, packed, deflated, base64."""
    count: int = 0
    share: float = 0.0
    how: str = "none"
    reads: int = 0


class DataPart(_Part):
    """The table that the selection was made on."""

    source: str = ""
    rows: int
    columns: list[str]
    fingerprint: str


class Selection(_Part):
    """A selection. `chaff.select(…).selection` makes one; `save`, `chaff.read_selection` and `apply` do the rest."""

    format: Literal["chaff selection"] = "chaff selection"
    version: Literal[1] = 1
    target: TargetPart
    kept: list[KeptPart]
    dropped: list[DroppedPart]
    look: list[LookPart]
    derived: list[DerivedPart] = Field(default_factory=list)
    holdout: HoldoutPart = Field(default_factory=HoldoutPart)
    scores: dict[str, Any] = Field(default_factory=dict)
    plan: dict[str, Any] = Field(default_factory=dict)
    seed: int = 0
    data: DataPart
    made_with: dict[str, str] = Field(default_factory=dict)

    @property
    def terms(self) -> Terms:
        """How the table was opened: roles, and how text is read, so that `apply` reads new rows alike."""
        table = self.plan.get("table", {})
        if not isinstance(table, dict):
            raise UsageError(f"plan.table must be a table, not {table!r}")
        return Terms.said(**table)

    @property
    def features(self) -> tuple[str, ...]:
        """Names of the kept features, in the order of the table."""
        return tuple(k.name for k in self.kept)

    def save(self, path: str | Path) -> None:
        """Write as JSON, whole or not at all."""
        if not isinstance(path, str | Path):
            raise ArgumentError(f"save: path must be a word or a path, not {path!r}")
        write_text(path, self.to_json())

    def to_json(self) -> str:
        return json.dumps(self.model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"

    def apply(self, source: Any, out: str | Path | None = None) -> Any:
        """Keep the same columns of other data: target first if present, ids and groups carried along if present.

        Parameters
        ----------
        source : path, pandas frame, Arrow table or array
            An array must have the columns of the X that the selection was made on, in their order.
        out : path, optional
            Where to write, CSV or Parquet by its ending; the data is then not returned but streamed.

        Returns
        -------
        pandas frame, or an array for an array; the path when `out` is given.

        Raises
        ------
        DataError
            When a kept column is missing or holds another kind.

        Examples
        --------
        >>> import chaff
        >>> run = chaff.select(chaff.demo.table(rows=200), plan=chaff.Plan((chaff.Screen(), chaff.Search())))
        >>> list(run.selection.apply(chaff.demo.lots(rows=30)).columns)[:2]
        ['loaf_volume', 'mill']
        """
        from chaff.decide.apply import apply_selection

        if out is not None and not isinstance(out, str | Path):
            raise ArgumentError(f"apply: out must be a word or a path, not {out!r}")
        return apply_selection(self, source, out)

    def __str__(self) -> str:
        names = ", ".join(self.features[:12]) + (f" and {len(self.kept) - 12} more" if len(self.kept) > 12 else "")
        barred = sum(part.barred for part in self.look)
        return (
            f"selection of {len(self.kept)} features for {self.target.name}: {names}\n"
            f"{len(self.dropped)} dropped, {len(self.look)} to look at ({barred} barred)"
        )


def made_with() -> dict[str, str]:
    import chaff

    return {"chaff": chaff.__version__, "python": platform.python_version()}


def read_selection(path: str | Path) -> Selection:
    """A selection from its JSON file; nothing in it is run.

    Raises
    ------
    DataError
        When it is not there, is not a selection, or was written by a later version.
    """
    file = Path(path)
    data = read_json(file, "selection", "is not a selection", "chaff selection", VERSION)
    try:
        selection = Selection.model_validate(data)
        _ = selection.terms
        _check_derived(selection)
    except UsageError as error:
        raise DataError(f"{file.name} is a damaged selection: {error}") from error
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"])
        raise DataError(f"{file.name} is a damaged selection: {where}: {first['msg']}") from error
    return selection


def _check_derived(selection: Selection) -> None:
    """What apply makes must be made from columns that it reads."""
    kept = {k.name for k in selection.kept}
    flags = {d.name for d in selection.derived if d.made == "missing flag"}
    for d in selection.derived:
        if d.name not in kept or d.of in flags or (d.made == "fill" and d.of != d.name):
            raise UsageError(f"derived '{d.name}' is not a kept column made from a plain one")


def json_schema() -> str:
    """The published JSON schema of the file, as text."""
    schema = Selection.model_json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    return json.dumps(schema, indent=1, ensure_ascii=False) + "\n"
