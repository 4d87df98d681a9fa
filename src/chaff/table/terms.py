"""Terms: how a table is opened, said once. `open_table`, the plan's [table], the command line, the selection and `apply` read it.

A new role or way of reading is a new field here: its `about` is the help of the command line and the documentation of the call.
"""

from __future__ import annotations

import dataclasses
import fnmatch
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import PurePath
from typing import Any, Literal

from chaff.choices import wrong_fields
from chaff.errors import UnknownColumn, UsageError
from chaff.table.derived import others_in
from chaff.table.files.reading import Reading

SettingForm = Literal["word", "words", "names", "number", "numbers", "pairs", "number pairs", "word lists", "path"]


def _term(default: Any, about: str, option: str, given: SettingForm = "word", shown: str = "") -> Any:
    """A field with what the command line needs to know: its option, how it is said there, and the name of its value."""
    about_it = {"about": about, "option": option, "form": given, "shown": shown}
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
        "Positive class of a two-class target. Default: 1, yes, true, bad and the like, else the rarer class. The output names it.",
        "--positive",
        shown="CLASS",
    )
    target_above: float | None = _term(
        None, "Predict whether the target is above this; the column itself is then ignored.", "--target-above", "number", "NUMBER"
    )
    target_cuts: Sequence[float] = _term(
        (), "Predict the class between these thresholds; the column itself is then ignored.", "--target-cuts", "numbers", "A,B,…"
    )
    target_labels: Sequence[str] = _term(
        (), "Names of the classes that thresholds make, from the lowest on.", "--target-label", "words", "WORD"
    )
    target_name: str = _term("", "Name of the target that thresholds make.", "--target-name", shown="NAME")
    ids: Sequence[str] = _term((), "Column that identifies rows: never a feature.", "--ids", "words", "NAME")
    ignore: Sequence[str] = _term((), "Column to ignore: never a feature.", "--ignore", "words", "NAME")
    protected: Sequence[str] = _term(
        (), "Protected column: never a feature. select reports how well the selected set predicts it.",
        "--protected", "words", "NAME",
    )  # fmt: skip
    features: Sequence[str] = _term(
        (), "Only these columns are features; * in a name stands for any letters. @FILE: those of a selection, of saved findings or a "
        "search, or of a list of names.",
        "--features", "names", "A,B,…|@FILE",
    )  # fmt: skip
    groups: str | None = _term(None, "Rows of one group stay together in every split.", "--groups", shown="NAME")
    order: str | None = _term(
        None, "Date or number by which rows are split in time (order overrides groups; the output reports this).", "--order", shown="NAME"
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
        "0/1 columns made from one category, and a name for it: they are treated as one feature.",
        "--together",
        "word lists",
        "NAME=A,B,…",
    )
    costs: Mapping[str, float] = _term(
        {}, "Cost of measuring a feature, any unit. Between near-duplicates the cheaper is kept.", "--cost", "number pairs", "NAME=NUMBER"
    )
    panels: Mapping[str, Sequence[str]] = _term(
        {},
        "Features that one measurement gives together, and a name for it: its cost, under that name, is paid once.",
        "--panel",
        "word lists",
        "NAME=A,B,…",
    )
    missing_flags: Sequence[str] = _term(
        (), "Add a missingness indicator (a 0/1 feature) for this column.", "--missing-flag", "words", "NAME"
    )
    derive: Mapping[str, Sequence[str]] = _term(
        {},
        "Numbers from a date column: age (days before the last row, or age:DATE), year, month, weekday (1 is Monday), hour, since:COLUMN.",
        "--derive",
        "word lists",
        "NAME=A,B,…",
    )
    fill: Mapping[str, Any] = _term({}, "Fill value for the missing values of a column.", "--fill", "pairs", "NAME=VALUE")
    dictionary: Any = _term(
        None,
        "What the columns mean: a CSV file with the columns name, meaning, unit; in Python also a dict of column to text, "
        "(text, unit) or a dict with meaning and unit.",
        "--dictionary",
        "path",
        "FILE",
    )
    missing: Sequence[str] = _term(
        (), 'Missing-value code. Without it only an empty cell is missing: "NA" and "None" are levels.', "--missing", "words", "WORD"
    )
    missing_codes: Mapping[str, Sequence[str | int | float]] = _term(
        {}, "Missing-value codes of one column.", "--missing-code", "word lists", "NAME=A,B,…"
    )
    infinite: Literal["error", "missing"] = _term("error", "What to do with infinite numbers.", "--infinite")
    delimiter: str | None = _term(None, "Column separator of a CSV file; detected by default.", "--delimiter", shown="MARK")
    decimal: Literal[".", ","] | None = _term(None, "Decimal mark of a CSV file; detected by default.", "--decimal")
    encoding: str | None = _term(None, "Text encoding of a CSV file; detected by default.", "--encoding", shown="NAME")

    def __post_init__(self) -> None:
        for f in dataclasses.fields(self):
            value = getattr(self, f.name)
            if f.metadata["form"] in ("words", "names", "numbers"):
                value = (value,) if isinstance(value, str | int | float) else tuple(value)
            elif f.metadata["form"] == "word lists":
                value = {k: (v,) if isinstance(v, str | int | float) else tuple(v) for k, v in value.items()}
            elif f.metadata["form"] in ("pairs", "number pairs"):
                value = dict(value)
            object.__setattr__(self, f.name, value)

    @classmethod
    def from_settings(cls, **given: Any) -> Terms:
        """Terms from what the user said, None standing for what was not; every mistake is named in one go.

        Raises
        ------
        UsageError
        """
        empty = {f.name for f in dataclasses.fields(cls) if f.metadata["form"] not in ("word", "number", "path")}
        given = {k: v for k, v in given.items() if not (v is None and k in empty)}
        problems = wrong_fields(cls, given)
        if problems:
            raise UsageError("; ".join(problems))
        return cls(**given)

    def changed_by(self, **given: Any) -> Terms:
        """These terms with some of them replaced."""
        return Terms.from_settings(**{**self.as_mapping(), **given})

    def only_with(self, there: Collection[str]) -> Terms:
        """These terms as far as columns that are there are meant; what columns cost and mean is left out."""
        keep: dict[str, Any] = {
            name: {k: v for k, v in getattr(self, name).items() if k in there} for name in ("kinds", "dates", "missing_codes", "fill")
        }
        keep["together"] = {k: v for k, v in self.together.items() if set(v) <= set(there)}
        keep["derive"] = {k: v for k, v in self.derive.items() if k in there and not others_in(v) - set(there)}
        keep |= {name: tuple(n for n in getattr(self, name) if n in there) for name in ("ids", "ignore", "protected", "missing_flags")}
        keep["features"] = tuple(n for n in self.features if n in there or n in keep["together"])
        return dataclasses.replace(self, **keep, panels={}, costs={}, dictionary=None)

    def as_mapping(self) -> dict[str, Any]:
        """What differs from the defaults, as plain data: what stands in a plan and in a selection."""
        out = {}
        for f in dataclasses.fields(self):
            value = getattr(self, f.name)
            default = f.default_factory() if f.default_factory is not dataclasses.MISSING else f.default
            if value != default:
                out[f.name] = _plain(value)
        return out

    def with_wildcards(self, columns: Sequence[str], label: str) -> Terms:
        """The columns that are meant by names with * or ? in them, for features, ids, ignore, protected and together.

        Raises
        ------
        UnknownColumn
            For a pattern that fits no column.
        """
        out: dict[str, Any] = {role: _matching(getattr(self, role), columns, label) for role in ("features", "ids", "ignore", "protected")}
        out["together"] = {name: _matching(members, columns, label) for name, members in self.together.items()}
        return dataclasses.replace(self, **out)

    @property
    def reading(self) -> Reading:
        """How text files are read."""
        text = [n for n, kind in self.kinds.items() if kind not in ("number", "binary", "date")]
        words = dict.fromkeys([*self.ids, *text, *self.dates, *([self.groups] if self.groups else [])])
        return Reading(self.delimiter, self.decimal, self.encoding, tuple(map(str, self.missing)), tuple(words))

    @property
    def derives_target(self) -> bool:
        return self.target_above is not None or bool(self.target_cuts)

    @property
    def roles(self) -> tuple[str, ...]:
        """Columns that are there for another purpose than to be a feature, the target left out."""
        named = [r for r in (self.groups, self.order, self.weights) if r]
        return tuple(dict.fromkeys([*self.ids, *named]))


def _matching(names: Sequence[str], columns: Sequence[str], label: str) -> tuple[str, ...]:
    out: list[str] = []
    for name in names:
        if name in columns or not set("*?") & set(name):
            out.append(name)
            continue
        found = fnmatch.filter(columns, name)
        if not found:
            raise UnknownColumn(f"no column of {label} is like '{name}'")
        out += found
    return tuple(dict.fromkeys(out))


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
