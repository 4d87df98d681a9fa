"""Selection: which columns stay and why, as a versioned file that can be applied to new data.

Selections of earlier versions under today's keys.
"""

from __future__ import annotations

import hashlib
import json
import platform
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from chaff.decide.selection_parts import SelectionData
from chaff.errors import ArgumentError, DataError, UsageError
from chaff.files import read_json, write_text
from chaff.results.shown import table_html
from chaff.version import __version__

if TYPE_CHECKING:
    from chaff.decide.drift import Drifts
    from chaff.decide.explaining import Explanation


KEYS = {
    "look": "review", "about": "descriptions", "places": "ranks", "kept_shares": "selection_frequencies",
    "stand_ins": "interchangeable", "seal": "checksum",
}  # fmt: skip


def with_new_keys(data: Mapping[str, Any]) -> dict[str, Any]:
    """A selection of version 1 or 2 as one of version 3; what is not as it should be is left to the reader's own checks."""
    out = {KEYS.get(k, k): v for k, v in data.items()}
    out["version"] = 3
    for part in ("kept", "dropped", "history"):
        out[part] = [_part(p) for p in _list(out.get(part))]
    out["review"] = [{"blocked" if k == "barred" else k: v for k, v in p.items()} for p in _list(out.get("review"))]
    if isinstance(out.get("target"), Mapping):
        out["target"] = _part(out["target"])
    return out


def _list(value: Any) -> list[Any]:
    return [p for p in value if isinstance(p, Mapping)] if isinstance(value, list) else []


def _part(part: Mapping[str, Any]) -> dict[str, Any]:
    out = {"distribution" if k == "shape" else k: v for k, v in part.items()}
    if out.get("verdict") == "look":
        out["verdict"] = "review"
    return out


VERSION = 3  # 2: with the history of every column, its distribution, and a checksum; 3: other names of keys


class Selection(SelectionData):
    """A selection. `chaff.select(…).selection` makes one; `save`, `chaff.read_selection` and `apply` do the rest."""

    def save(self, path: str | Path) -> None:
        """Write as JSON, whole or not at all."""
        if not isinstance(path, str | Path):
            raise ArgumentError(f"save: path must be a word or a path, not {path!r}")
        write_text(path, self.to_json())

    def to_json(self) -> str:
        with_checksum = self.model_copy(update={"checksum": _checksum(self.model_dump(mode="json"))})
        return json.dumps(with_checksum.model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"

    def explain(self, feature: str | None = None) -> Explanation:
        """Why a column stayed or went, in sentences with figures and limits; without a name, all of them.

        Parameters
        ----------
        feature : str, optional
            Any column that the run was offered, kept ones too.

        Returns
        -------
        Explanation
            ``print`` it; ``frame``: a row a column, those to look at first; `save` as .csv, .parquet, .json or .md.

        Raises
        ------
        UnknownColumn

        Examples
        --------
        >>> import chaff
        >>> run = chaff.select(chaff.demo.table(rows=200), plan=chaff.Plan((chaff.Screen(), chaff.Search())))
        >>> run.selection.explain("crumb_score").columns[0].fate
        'blocked'
        """
        from chaff.decide.explaining import explanation_of

        return explanation_of(self, feature)

    def apply(self, source: Any, out: str | Path | None = None, *, strict: bool = False) -> Any:
        """Keep the same columns of other data: target first if present, ids and groups carried along if present.

        Parameters
        ----------
        source : path, pandas frame, Arrow table or array
            An array must have the columns of the X that the selection was made on, in their order.
        out : path, optional
            Where to write, CSV or Parquet by its ending; the data is then not returned but streamed.
        strict : bool
            Refuse rows that do not look like those that were selected from (see `drift`): levels that were not there, columns
            that moved.

        Returns
        -------
        pandas frame, or an array for an array; the path when `out` is given.

        Raises
        ------
        DataError
            When a kept column is missing or holds another kind; with `strict` also when the rows look otherwise.

        Examples
        --------
        >>> import chaff
        >>> run = chaff.select(chaff.demo.table(rows=200), plan=chaff.Plan((chaff.Screen(), chaff.Search())))
        >>> list(run.selection.apply(chaff.demo.lots(rows=30)).columns)[:2]
        ['loaf_volume', 'mill']
        """
        if out is not None and not isinstance(out, str | Path):
            raise ArgumentError(f"apply: out must be a word or a path, not {out!r}")
        from chaff.decide.apply import apply_selection

        return apply_selection(self, source, out, strict)

    def drift(self, source: Any) -> Drifts:
        """How other data differs from the rows that were selected from, kept column by kept column, in one pass.

        Parameters
        ----------
        source : path, pandas frame or Arrow table

        Returns
        -------
        Drifts
            ``frame``: a row a column; ``moved``: those beyond a limit (population stability 0.2, missing share 5 %, 1 % of the rows
            with new levels or out of range) and beyond chance.

        Raises
        ------
        DataError

        Examples
        --------
        >>> import chaff
        >>> run = chaff.select(chaff.demo.table(rows=300), plan=chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
        >>> run.selection.drift(chaff.demo.lots(rows=300)).moved
        ()
        """
        from chaff.decide.apply import drift_of

        return drift_of(self, source)

    def __repr__(self) -> str:
        return str(self)

    def _repr_html_(self) -> str:
        kept = [[k.name, "keep", k.reason] for k in self.kept]
        review = [[r.name, "review, blocked" if r.blocked else "review", r.reason] for r in self.review]
        return table_html(str(self).splitlines()[0], ["feature", "verdict", "reason"], [*kept, *review])

    def __dir__(self) -> list[str]:
        """Its own fields and methods, without those of what it is built on."""
        own = {n for c in type(self).__mro__ if c.__module__.startswith("chaff.") for n in vars(c) if not n.startswith("_")}
        return sorted(own | set(type(self).model_fields))

    def __str__(self) -> str:
        names = ", ".join(self.features[:12]) + (f" and {len(self.kept) - 12} more" if len(self.kept) > 12 else "")
        blocked = sum(part.blocked for part in self.review)
        return (
            f"selection of {len(self.kept)} features for {self.target.name}: {names}\n"
            f"{len(self.dropped)} dropped, {len(self.review)} to review ({blocked} blocked)"
        )


def _checksum(data: Mapping[str, Any]) -> str:
    """SHA-256 of a selection's plain data without its checksum ("seal" in earlier versions)."""
    rest = {k: v for k, v in data.items() if k not in ("checksum", "seal")}
    return "sha256:" + hashlib.sha256(json.dumps(rest, sort_keys=True, ensure_ascii=True).encode()).hexdigest()


def made_with() -> dict[str, str]:
    return {"chaff": __version__, "python": platform.python_version()}


def read_selection(path: str | Path) -> Selection:
    """A selection from its JSON file; nothing in it is run.

    Raises
    ------
    DataError
        When it is not there, is not a selection, was written by a later version, or was changed after it was written.
    """
    file = Path(path)
    data = read_json(file, "selection", "is not a selection", "chaff selection", VERSION)
    try:
        today = data if data["version"] == VERSION else with_new_keys(data)
        selection = Selection.model_validate(today)
        _ = selection.terms
        _check_derived(selection)
        if selection.checksum and selection.checksum != _checksum(data):
            raise DataError(
                f"{file.name} was changed after it was written: its checksum does not match. Write it again with chaff select; "
                f'to use it as it is, remove its line "{"seal" if data["version"] < VERSION else "checksum"}"'
            )
    except UsageError as error:
        raise DataError(f"{file.name} is a damaged selection: {error}") from error
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"])
        raise DataError(f"{file.name} is a damaged selection: {where}: {first['msg']}") from error
    return selection.model_copy(update={"checksum": ""})


def _check_derived(selection: Selection) -> None:
    """What apply makes must be made from columns that it reads."""
    kept = {k.name for k in selection.kept}
    new = {d.name for d in selection.derived if d.made != "fill"}
    for d in selection.derived:
        fits = {"fill": d.of == d.name, "age": isinstance(d.value, float), "since": isinstance(d.value, str)}.get(d.made, True)
        if d.name not in kept or d.of in new or not fits:
            raise UsageError(f"derived '{d.name}' is not a kept column made from a plain one")


def json_schema() -> str:
    """The published JSON schema of the file, as text."""
    schema = Selection.model_json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    return json.dumps(schema, indent=1, ensure_ascii=False) + "\n"
