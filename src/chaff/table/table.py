"""Table: data with kinds and roles. Frozen: a shared source and the rows of it that are in view."""

from __future__ import annotations

import html
import shutil
import textwrap
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import timedelta
from functools import cached_property
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from chaff.arrays import Floats, Ints
from chaff.errors import ArgumentError, DataError, UnknownColumn, UsageError, nearest
from chaff.stats.paired_loss import Units
from chaff.table.dates import stored_format
from chaff.table.derived import EPOCH, Derived, checked_fill, derived_parts, flags_for, others_in
from chaff.table.indicator_groups import indicator_groups, joined
from chaff.table.kinds import Column, Kind
from chaff.table.source import Source
from chaff.table.terms import Terms
from chaff.visible import Shown, listed

Task = Literal["regression", "classification", "none"]
NO_TARGET = "this needs a target, and the table was opened without one: open_table(…, target=NAME), --target NAME"
MOST_NAMES = 12  # of a kind, shown in a notebook


@dataclass(frozen=True)
class Meaning:
    """What a column means to people: words and unit, shown wherever the column appears."""

    text: str = ""
    unit: str = ""


@dataclass(frozen=True)
class Target:
    """The column to predict."""

    name: str
    task: Task
    classes: tuple[str, ...] = ()
    positive: str | None = None
    """With two classes, the one that counts as positive: class 1 of the codes in `y`, 1 or yes, else the rarer one, unless declared."""
    unit: str = ""


def _of_date(d: Derived) -> str:
    if d.made == "age":
        return f"days from {d.of} to {EPOCH + timedelta(days=int(d.value or 0))}"
    return f"days from {d.value} to {d.of}" if d.made == "since" else f"{d.made} of {d.of}"


@dataclass(frozen=True, repr=False)
class Table(Shown):
    """A table with its target, kinds and roles; made by `chaff.open_table` or `chaff.open_arrays`.

    Features are read through `column` and `chunks` only. `take` and `with_features` give smaller views on the same source.
    """

    source: Source = field(repr=False)
    target: Target
    features: tuple[str, ...]
    rows: Ints = field(repr=False)
    y_all: Floats = field(repr=False)
    terms: Terms = field(default_factory=Terms, repr=False)
    """How it was opened."""
    groups_all: Ints | None = field(default=None, repr=False)
    order_all: Floats | None = field(default=None, repr=False)
    weights_all: Floats | None = field(default=None, repr=False)
    meanings: Mapping[str, Meaning] = field(default_factory=dict, repr=False)
    notes: tuple[str, ...] = field(default=(), repr=False)
    drawn_from: Table | None = field(default=None, repr=False)
    """The table that these rows are a sample of, for what is a sum over rows; None for rows that were taken for another purpose."""
    as_opened: bool = field(default=True, repr=False)
    """Whether the target is what the source says: what was changed in memory cannot be read again."""

    def __len__(self) -> int:
        return int(self.rows.size)

    @property
    def label(self) -> str:
        return self.source.label

    @property
    def ids(self) -> tuple[str, ...]:
        return tuple(self.terms.ids)

    @property
    def ignored(self) -> tuple[str, ...]:
        """Columns that take no part; what the target was made from is one of them."""
        made_from = (self.terms.target,) if self.terms.derives_target else ()
        return tuple(dict.fromkeys([*self.terms.ignore, *made_from]))

    @cached_property
    def decoys(self) -> tuple[str, ...]:
        """Features that are known to be noise, from `with_decoys`."""
        made = frozenset(self.source.decoys)
        return tuple(f for f in self.features if f in made)

    @property
    def costs(self) -> Mapping[str, float]:
        return self.terms.costs

    @cached_property
    def y(self) -> Floats:
        """Target of the rows in view: the number itself, or the class code 0, 1, …

        Raises
        ------
        UsageError
            When the table was opened without one.
        """
        self.check_target()
        return self.y_all[self.rows]

    @property
    def has_target(self) -> bool:
        """Whether there is something to predict; without it a table can be screened and its overlap be seen."""
        return self.target.task != "none"

    def check_target(self) -> None:
        if not self.has_target:
            raise UsageError(NO_TARGET)

    @property
    def row_numbers(self) -> Ints:
        """Which rows of the file these are, from 0."""
        picked = self.source.picked
        return self.rows if picked is None else picked[self.rows]

    @cached_property
    def weights(self) -> Floats | None:
        return None if self.weights_all is None else self.weights_all[self.rows]

    @cached_property
    def groups(self) -> Ints | None:
        return None if self.groups_all is None else self.groups_all[self.rows]

    @cached_property
    def order(self) -> Floats | None:
        return None if self.order_all is None else self.order_all[self.rows]

    @cached_property
    def units(self) -> Units | None:
        """What hangs together among the rows in view; None where every row is a witness of its own."""
        if self.weights is None and self.groups is None and self.order is None:
            return None
        return Units(self.weights, self.groups, self.order)

    @cached_property
    def targets(self) -> Floats:
        """Target columns, float64 (rows, t): the number; one 0/1 column with two classes; one per class with more; none where there
        is no target."""
        if not self.has_target:
            return np.empty((len(self), 0))
        if self.target.task == "regression":
            return self.y[:, None].copy()
        classes = np.array([1]) if len(self.target.classes) == 2 else np.arange(len(self.target.classes))
        out: Floats = (self.y[:, None] == classes).astype(float)
        return out

    def column(self, name: str) -> Column:
        """One column over the rows in view."""
        return self.whole_column(name).take(self.rows if self.rows.size != self.source.rows else None)

    def whole_column(self, name: str) -> Column:
        """One column over every row of the source: for the schema, which never looks at the target."""
        self.check_known([name])
        return self.source.column(name)

    def kind(self, name: str) -> Kind:
        self.check_known([name])
        return self.source.kind(name)

    @property
    def kinds(self) -> dict[str, Kind]:
        """Kind of every feature, as inferred or told."""
        return {f: self.kind(f) for f in self.features}

    def levels(self, name: str) -> tuple[str, ...]:
        return self.whole_column(name).levels

    def chunks(self, features: Sequence[str], size: int = 65_536) -> Iterator[tuple[slice, Floats]]:
        """Row by row blocks of columns: (which rows in view, float64 (len(features), rows) as `Column.values` tells)."""
        for start in range(0, len(self), size):
            where = slice(start, min(start + size, len(self)))
            yield where, self.chunk(features, where)

    def chunk(self, features: Sequence[str], where: slice, out: Floats | None = None) -> Floats:
        """One block of `chunks`, written into the first rows of `out` (float64 (>= features, >= rows)) when given."""
        rows = self.rows[where]
        block = np.empty((len(features), rows.size)) if out is None else out[: len(features), : rows.size]
        run = bool(rows.size and rows[-1] - rows[0] + 1 == rows.size)  # neighbours: a slice copies faster
        for j, name in enumerate(features):
            values = self.source.column(name).values
            block[j] = values[rows[0] : rows[-1] + 1] if run else values[rows]
        return block

    def take_rows(self, positions: Ints) -> Table:
        """The rows at these positions as a table of their own, in memory: kinds and levels are those of the whole.

        Parameters
        ----------
        positions : int64, ascending
        """
        rows = self.rows[positions]

        def of_role(values: Any) -> Any:
            return None if values is None else values[rows]

        return replace(
            self,
            source=self.source.take_rows(rows),
            rows=np.arange(rows.size),
            y_all=self.y_all[rows],
            groups_all=of_role(self.groups_all),
            order_all=of_role(self.order_all),
            weights_all=of_role(self.weights_all),
            as_opened=False,
        )

    def sample(self, rows: int, *, seed: int = 0) -> Table:
        """Some rows in memory, drawn at random: for what takes too long, or too much, on all of them.

        Kinds and levels stay those of the whole table, and so do the sums that overlap is read from.

        Parameters
        ----------
        rows : int
            How many; all of them where there are no more.
        seed : int

        Examples
        --------
        >>> import chaff
        >>> len(chaff.demo.table(rows=300).sample(100))
        100
        """
        if rows < 1:
            raise UsageError(f"sample: rows must be 1 or more, not {rows}")
        if rows >= len(self):
            return self
        rng = np.random.default_rng(seed)
        subset = self.take_rows(np.sort(rng.choice(len(self), rows, replace=False, shuffle=False)))
        return replace(subset, drawn_from=self)

    def named(self, label: str) -> Table:
        """The same table under another label in messages."""
        return replace(self, source=self.source.named(label))

    def take(self, positions: npt.ArrayLike) -> Table:
        """The rows at these positions of the view, in ascending order of the source."""
        where = np.asarray(positions)
        if where.size == 0:
            where = where.astype(np.int64)
        if where.ndim != 1 or where.dtype.kind not in "iub":
            raise ArgumentError(f"take: positions must be whole numbers, not {where.dtype} of shape {where.shape}")
        if where.dtype.kind == "b" and where.size != len(self):
            raise ArgumentError(f"take: {where.size:,} flags for {len(self):,} rows")
        if where.dtype.kind != "b" and where.size and (int(where.max()) >= len(self) or int(where.min()) < -len(self)):
            raise ArgumentError(f"take: a position of {int(np.abs(where).max()):,} where the table has {len(self):,} rows")
        rows = self.rows[where]
        if not bool((rows[1:] > rows[:-1]).all()):  # mostly they ascend, and sorting many millions takes seconds
            rows = np.sort(rows)
            if bool((rows[1:] == rows[:-1]).any()):
                raise ArgumentError("take: each row may be taken once")
        return replace(self, rows=rows, drawn_from=None)

    def with_features(self, names: Sequence[str]) -> Table:
        """Fewer features, or others; what is there for another purpose is none.

        Raises
        ------
        UnknownColumn, UsageError
        """
        self.check_known(names)
        self.check_features(names)
        return replace(self, features=tuple(dict.fromkeys(names)))

    def with_indicators_joined(self, apart: Collection[str] = ()) -> tuple[Table, dict[str, tuple[str, ...]]]:
        """The table with 0/1 columns that add up to one taken as one category, and which they are; in memory only.

        apart : columns that stay as they are
        """
        if self.source.spill is not None:
            return self, {}
        flags = {f: self.whole_column(f) for f in self.features if self.kind(f) == "binary" and f not in apart}
        groups = {stem: names for stem, names in indicator_groups(flags).items() if stem not in self.source.known}
        if not groups:
            return self, {}
        source = self.source.with_made([joined(stem, {n: flags[n] for n in names}) for stem, names in groups.items()])
        first = {names[0]: stem for stem, names in groups.items()}
        members = {n for names in groups.values() for n in names}
        features = tuple(first.get(f, f) for f in self.features if f in first or f not in members)
        return replace(self, source=source, features=features), groups

    def with_missing_flags(self, names: Sequence[str]) -> Table:
        """A further feature for each column that says whether it is missing there: `NAME_missing`, right behind it.

        For columns that are missing for a reason. Recorded in the selection, so that `apply` makes them again.

        Raises
        ------
        UnknownColumn, DataError
            Also when a column has no missing cell, or its flag's name is taken.

        Examples
        --------
        >>> import chaff
        >>> table = chaff.demo.table(rows=100).with_missing_flags(["mycotoxin_ppb"])
        >>> table.kind("mycotoxin_ppb_missing")
        'binary'
        """
        names = (names,) if isinstance(names, str) else tuple(names)
        self.check_known(names)
        for name in names:
            if name in self.source.together:
                raise DataError(f"'{name}' is declared together; a missing flag goes with a single column")
            if not self.source.column(name).missing.any():
                raise DataError(f"column '{name}' has no missing cell, so a flag of it would be constant")
        flags = flags_for(names, self.source.known)
        behind = {d.of: d.name for d in flags}
        features = [f for name in self.features for f in (name, behind.pop(name, ""))]
        meanings = {**self.meanings, **{d.name: Meaning(f"whether {d.of} is missing") for d in flags}}
        terms = replace(self.terms, missing_flags=tuple(dict.fromkeys([*self.terms.missing_flags, *names])))
        features = [f for f in (*features, *behind.values()) if f]
        return replace(self, source=self.source.deriving(flags), features=tuple(features), meanings=meanings, terms=terms)

    def with_derived_dates(self, parts: Mapping[str, Sequence[str]]) -> Table:
        """Further features from date columns, right behind them. Recorded in the selection, so that `apply` makes them again.

        Parameters
        ----------
        parts : dict
            Date column to what is made of it: "age" (days before the last row's date, which is then fixed; or ``"age:2026-03-31"``),
            "year", "month", "weekday" (1 is Monday), "hour", "since:OTHER" (days since another date column).

        Raises
        ------
        UnknownColumn, UsageError, DataError

        Examples
        --------
        >>> import chaff
        >>> table = chaff.demo.table(rows=100).with_derived_dates({"delivered_on": ["age", "month"]})
        >>> [f for f in table.features if f.startswith("delivered_on")]
        ['delivered_on', 'delivered_on_age_days', 'delivered_on_month']
        """
        made: list[Derived] = []
        fixed: dict[str, list[str]] = {}
        for name, asked in parts.items():
            requested = [asked] if isinstance(asked, str) else list(asked)
            for column in (name, *others_in(requested)):
                if column not in self.source.arrow.column_names:
                    raise UnknownColumn(f"column '{column}' is not in {self.label}.{nearest(column, self.source.arrow.column_names)}")
                if self.source.column(column).kind != "date":
                    raise UsageError(f"derive '{name}': column '{column}' holds no dates ({self.source.column(column).kind})")
            days = self.source.column(name).values
            if np.isnan(days).all():
                raise DataError(f"derive '{name}': every date is missing")
            more, fixed[name] = derived_parts(name, requested, float(np.nanmax(days[self.rows])))  # type: ignore[assignment]
            made += more
        taken = next((d.name for d in made if d.name in self.source.known), None)
        if taken or len({d.name for d in made}) < len(made):
            raise DataError(f"derive: a column '{taken or made[-1].name}' is there already")
        names = {n: [d.name for d in made if d.of == n] for n in parts}
        features = [f for name in self.features for f in (name, *names.pop(name, ()))]
        features += [f for rest in names.values() for f in rest]
        meanings = {**self.meanings, **{d.name: Meaning(_of_date(d)) for d in made}}
        used = {*parts, *(o for v in fixed.values() for o in others_in(v))}
        formats = {n: f for n in used if (f := self.terms.dates.get(n) or stored_format(self.source.raw(n)))}
        derive = {**self.terms.derive, **{k: tuple(v) for k, v in fixed.items()}}
        terms = replace(self.terms, derive=derive, dates={**self.terms.dates, **formats})
        return replace(self, source=self.source.deriving(tuple(made)), features=tuple(features), meanings=meanings, terms=terms)

    def with_decoys(self, count: int = 10, *, seed: int = 0) -> Table:
        """Further features that are known to be noise, to see how many of them a method keeps.

        Every other one is a shuffled copy of a feature, the others are newly drawn from a feature's values; with groups whole
        groups swap their cells, in time the series is turned round, so that a decoy hangs together as its original does. Named
        `decoy_01_shuffled_…` and `decoy_02_drawn_like_…`; never written out by anything.

        Parameters
        ----------
        count : int
        seed : int
            Fixes which features are copied, and how.

        Raises
        ------
        UsageError, DataError
            When there is nothing to copy, or a column has such a name.

        Examples
        --------
        >>> import chaff
        >>> table = chaff.demo.table(rows=200).with_features(["protein_pct", "variety"]).with_decoys(2)
        >>> table.decoys
        ('decoy_01_shuffled_protein_pct', 'decoy_02_drawn_like_variety')
        """
        from chaff.table.decoys import made_decoys

        columns = made_decoys(self, count, seed)
        names = tuple(c.name for c in columns)
        return replace(self, source=self.source.with_made(columns, names), features=(*self.features, *names))

    def with_label_noise(self, share: float, *, seed: int = 0) -> Table:
        """The same rows with some targets wrong, to see what a method withstands.

        Parameters
        ----------
        share : float
            Of the rows in view, above 0 and at most 1, whose targets are permuted among them.
        seed : int

        Examples
        --------
        >>> import chaff
        >>> table = chaff.demo.table(rows=200)
        >>> 0.1 < (table.with_label_noise(0.2).y != table.y).mean() <= 0.2
        np.True_
        """
        from chaff.table.decoys import noisy_target

        return replace(self, y_all=noisy_target(self, share, seed), as_opened=False)

    def with_fill(self, values: Mapping[str, Any]) -> Table:
        """The same features with the gaps of some filled: for what is missing because it is zero, or none.

        Nothing is learned from the data, so it is honest before any split. Recorded, so that `apply` fills again. A flag
        of the same column, made before or after, still says what was missing.

        Parameters
        ----------
        values : dict
            Column to the value in place of a missing cell: a number, or a word (a new level if it is none yet).

        Examples
        --------
        >>> import chaff
        >>> table = chaff.demo.table(rows=100).with_fill({"mycotoxin_ppb": 0})
        >>> bool(table.column("mycotoxin_ppb").missing.any())
        False
        """
        self.check_known(list(values))
        for name in values:
            if name in self.source.together:
                raise DataError(f"'{name}' is declared together; fill its single columns")
        more = tuple(Derived(n, "fill", n, checked_fill(self.source.column(n), v)) for n, v in values.items())
        terms = replace(self.terms, fill={**self.terms.fill, **{d.of: d.value for d in more}})
        return replace(self, source=self.source.deriving(more), terms=terms)

    def check_features(self, names: Sequence[str]) -> None:
        taken = {
            self.target.name: "the target",
            **dict.fromkeys(self.terms.ids, "an id"),
            **dict.fromkeys(self.terms.protected, "protected"),
        }
        taken |= {
            c: w for c, w in ((self.terms.groups, "the groups"), (self.terms.order, "the order"), (self.terms.weights, "the weights")) if c
        }
        for name in names:
            if name in taken:
                raise UsageError(f"'{name}' is {taken[name]} and cannot be a feature")

    def check_known(self, names: Sequence[str]) -> None:
        known = self.source.known
        for name in names:
            if name not in known:
                raise UnknownColumn(f"column '{name}' is not in {self.label}.{nearest(name, known)}")

    def meaning(self, name: str) -> Meaning:
        return self.meanings.get(name, Meaning())

    def describe(self, name: str) -> str:
        """Kind, unit and meaning in one bracket: `number, %, "protein by near-infrared"`."""
        about = self.meaning(name)
        parts = [self.kind(name), about.unit, f'"{about.text}"' if about.text else ""]
        return ", ".join(p for p in parts if p)

    @property
    def heading(self) -> str:
        """`lots.csv · 1,302 rows · 54 features (47 number, …) · target loaf_volume (ml)`."""
        target = self.target
        tail = f" ({target.unit})" if target.unit else ""
        if target.task == "classification":
            tail += f" · classes {', '.join(target.classes)}"
            tail += f" · positive class '{target.positive}'" if target.positive is not None else ""
        kinds = ", ".join(f"{len(names)} {kind}" for kind, names in self._by_kind().items())
        count = f"{len(self.features)} feature{'s' * (len(self.features) != 1)}"
        return (
            f"{self.label} · {len(self):,} rows · {count} ({kinds}) · {f'target {target.name}{tail}' if self.has_target else 'no target'}"
        )

    @property
    def roles_text(self) -> tuple[str, ...]:
        """What the other columns are for: `groups mill`."""
        t = self.terms
        given = {
            "ids": self.ids,
            "protected": list(t.protected),
            "groups": [t.groups],
            "order": [t.order],
            "weights": [t.weights],
            "ignored": self.ignored,
        }
        return tuple(f"{role} {', '.join(map(str, names))}" for role, names in given.items() if names and names[0])

    def _by_kind(self) -> dict[str, list[str]]:
        out: dict[str, list[str]] = {}
        for name, kind in self.kinds.items():
            out.setdefault(kind, []).append(name)
        return out

    def __str__(self) -> str:
        """No wider than the terminal."""
        width = shutil.get_terminal_size((100, 24)).columns
        lines = (self.heading, *self.roles_text, *self.notes)
        return "\n".join(part for line in lines for part in textwrap.wrap(line, width, break_on_hyphens=False))

    def _repr_html_(self) -> str:
        """The same as a small table for a notebook, a row a kind of feature; everything in it escaped."""
        rows = ""
        for kind, names in self._by_kind().items():
            subset = listed(names, MOST_NAMES)
            rows += f"<tr><td>{html.escape(kind)}</td><td>{len(names):,}</td><td>{html.escape(subset)}</td></tr>"
        given = "".join(f"<p>{html.escape(line)}</p>" for line in (*self.roles_text, *self.notes))
        head = "<tr><th>kind</th><th>features</th><th></th></tr>"
        return f"<div><p><b>{html.escape(self.heading)}</b></p><table><thead>{head}</thead><tbody>{rows}</tbody></table>{given}</div>"
