"""Terms: how a table is opened, said once. `open_table`, the plan's [table], the command line, the selection and `apply` read it.

A new role or way of reading is a new field here: its `about` is the help of the command line and the documentation of the call.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import PurePath
from typing import Any, Literal

from chaff.choices import wrong_fields
from chaff.errors import UsageError
from chaff.table.reading import Reading

Said = Literal["word", "words", "number", "numbers", "pairs", "number pairs", "word lists", "path"]


def _term(default: Any, about: str, option: str, said: Said = "word", shown: str = "") -> Any:
    """A field with what the command line needs to know: its option, how it is said there, and the name of its value."""
    about_it = {"about": about, "option": option, "said": said, "shown": shown}
    if isinstance(default, dict):
        return field(default_factory=dict, metadata=about_it)
    return field(default=default, metadata=about_it)


@dataclass(frozen=True)
class Terms:
    """What the columns of a table are for, and how its cells are read."""

    target: str = _term("", "Column to predict. Rows where it is missing are left out, and counted.", "--target", shown="NAME")
    task: Literal["auto", "regression", "classification"] = _term(
        "auto", "Kind of target. auto: words, yes/no and two-valued columns are classes, other numbers are numbers.", "--task"
    )
    positive: str | int | float | bool | None = _term(
        None,
        "With two classes, the one that counts as positive; the rarer one when left out (of equals the later word). Always named.",
        "--positive",
        shown="CLASS",
    )
    target_above: float | None = _term(
        None, "Predict whether the target is above this; the column itself then takes no part.", "--target-above", "number", "NUMBER"
    )
    target_cuts: Sequence[float] = _term(
        (), "Predict the class between these thresholds; the column itself then takes no part.", "--target-cuts", "numbers", "A,B,…"
    )
    target_labels: Sequence[str] = _term(
        (), "Names of the classes that thresholds make, from the lowest on.", "--target-label", "words", "WORD"
    )
    target_name: str = _term("", "Name of the target that thresholds make.", "--target-name", shown="NAME")
    ids: Sequence[str] = _term((), "Column that identifies rows: never a feature.", "--ids", "words", "NAME")
    ignore: Sequence[str] = _term((), "Column that takes no part: never a feature.", "--ignore", "words", "NAME")
    protected: Sequence[str] = _term(
        (), "Column that must not be used, not even through others: never a feature, and the kept set is asked what it tells of it.",
        "--protected", "words", "NAME",
    )  # fmt: skip
    groups: str | None = _term(None, "Rows of one group stay together in every split.", "--groups", shown="NAME")
    order: str | None = _term(
        None, "Date or number by which rows are split in time (order beats groups, and says so).", "--order", shown="NAME"
    )
    weights: str | None = _term(None, "Column of row weights: numbers, zero or more.", "--weights", shown="NAME")
    kinds: Mapping[str, str] = _term(
        {},
        "Kind of a column where the inferred one is wrong: number, binary, category, date, text, ordered (or low<medium<high).",
        "--kind",
        "pairs",
        "NAME=KIND",
    )
    dates: Mapping[str, str] = _term(
        {}, "Format of the dates of a column, such as %d.%m.%Y, where more than one fits.", "--date", "pairs", "NAME=FORMAT"
    )
    together: Mapping[str, Sequence[str]] = _term(
        {},
        "0/1 columns that were made beforehand from one category, and a name for it: they are one feature from here on.",
        "--together",
        "word lists",
        "NAME=A,B,…",
    )
    costs: Mapping[str, float] = _term(
        {}, "What measuring a feature costs, in any unit; of equals the dearer goes.", "--cost", "number pairs", "NAME=NUMBER"
    )
    panels: Mapping[str, Sequence[str]] = _term(
        {},
        "Features that one measurement gives together, and a name for it: its cost, under that name, is paid once.",
        "--panel",
        "word lists",
        "NAME=A,B,…",
    )
    missing_flags: Sequence[str] = _term(
        (), "Column that gets a feature beside it which says whether it is missing.", "--missing-flag", "words", "NAME"
    )
    fill: Mapping[str, Any] = _term({}, "What a missing cell of a column means: the value in its place.", "--fill", "pairs", "NAME=VALUE")
    dictionary: Any = _term(
        None,
        "What the columns mean: a CSV file with the columns name, meaning, unit; in Python also a dict of column to text, "
        "(text, unit) or a dict with meaning and unit.",
        "--dictionary",
        "path",
        "FILE",
    )
    missing: Sequence[str] = _term(
        (),
        'Word that stands for a missing cell. Without it only an empty cell is missing: "NA" and "None" are levels.',
        "--missing",
        "words",
        "WORD",
    )
    missing_codes: Mapping[str, Sequence[str | int | float]] = _term(
        {}, "Values of one column that stand for a missing cell in it.", "--missing-code", "word lists", "NAME=A,B,…"
    )
    infinite: Literal["error", "missing"] = _term("error", "What to do with infinite numbers.", "--infinite")
    delimiter: str | None = _term(None, "Column separator of a CSV file; found out when left out.", "--delimiter", shown="MARK")
    decimal: Literal[".", ","] | None = _term(None, "Decimal mark of a CSV file; found out when left out.", "--decimal")
    encoding: str | None = _term(None, "Text encoding of a CSV file; found out when left out.", "--encoding", shown="NAME")

    def __post_init__(self) -> None:
        for f in dataclasses.fields(self):
            value = getattr(self, f.name)
            if f.metadata["said"] in ("words", "numbers"):
                value = (value,) if isinstance(value, str | int | float) else tuple(value)
            elif f.metadata["said"] == "word lists":
                value = {k: (v,) if isinstance(v, str | int | float) else tuple(v) for k, v in value.items()}
            elif f.metadata["said"] in ("pairs", "number pairs"):
                value = dict(value)
            object.__setattr__(self, f.name, value)

    @classmethod
    def said(cls, **given: Any) -> Terms:
        """Terms from what a person said, None standing for what was not; every mistake is named in one go.

        Raises
        ------
        UsageError
        """
        empty = {f.name for f in dataclasses.fields(cls) if f.metadata["said"] not in ("word", "number", "path")}
        given = {k: v for k, v in given.items() if not (v is None and k in empty)}
        problems = wrong_fields(cls, given)
        if problems:
            raise UsageError("; ".join(problems))
        return cls(**given)

    def changed_by(self, **given: Any) -> Terms:
        """These terms with some of them said anew."""
        return Terms.said(**{**self.as_mapping(), **given})

    def as_mapping(self) -> dict[str, Any]:
        """What differs from the defaults, as plain data: what stands in a plan and in a selection."""
        out = {}
        for f in dataclasses.fields(self):
            value = getattr(self, f.name)
            default = f.default_factory() if f.default_factory is not dataclasses.MISSING else f.default
            if value != default:
                out[f.name] = _plain(value)
        return out

    @property
    def reading(self) -> Reading:
        """How text files are read."""
        told = [n for n, kind in self.kinds.items() if kind not in ("number", "binary", "date")]
        words = dict.fromkeys([*self.ids, *told, *self.dates, *([self.groups] if self.groups else [])])
        return Reading(self.delimiter, self.decimal, self.encoding, tuple(map(str, self.missing)), tuple(words))

    @property
    def derives_target(self) -> bool:
        return self.target_above is not None or bool(self.target_cuts)

    @property
    def roles(self) -> tuple[str, ...]:
        """Columns that are there for another purpose than to be a feature, the target left out."""
        named = [r for r in (self.groups, self.order, self.weights) if r]
        return tuple(dict.fromkeys([*self.ids, *named]))


def _plain(value: Any) -> Any:
    if isinstance(value, tuple):
        return [_plain(v) for v in value]
    if isinstance(value, PurePath):
        return str(value)
    if isinstance(value, Mapping):
        return {str(k): _plain(v) for k, v in value.items()}
    return value


def terms_in_words(indent: str = "    ") -> str:
    """The terms as the parameters of a docstring."""
    out = []
    for f in dataclasses.fields(Terms):
        if f.name == "target":
            continue
        out += [
            f"{indent}{f.name} : {str(f.type).replace('Sequence', 'list').replace('Mapping', 'dict')}",
            f"{indent}    {f.metadata['about']}",
        ]
    return "\n".join(out)
