"""Source: the data behind any number of Tables, decoded column by column on first use."""

from __future__ import annotations

import hashlib
import threading
import uuid
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property, partial
from typing import Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import DataError
from chaff.memory import BoundedCache, machine_bytes
from chaff.table.derived import WHOLE, Derived, date_part, filled_cells, flag_cells, flag_column, gaps_of, without_codes
from chaff.table.files.reading import Reading
from chaff.table.kinds import Column, Kind, decode, floats_of, from_numbers
from chaff.table.on_disk.spilled import Spill, SpilledBlock, settle
from chaff.table.on_disk.stored import StoredTable
from chaff.work import Work, task

WIDEST_NUMBER = 1e140  # of a column: its squares, and their sums, have to fit
CACHE_SHARE = 0.33  # of the machine's memory, for decoded columns
MOST_MAPS = 50_000  # columns on disk that are mapped at a time: a process may hold some 65,000 maps
A_BLOCK = 64  # columns that lie in one file where they are short
SHORT = 1 << 20  # bytes up to which they are
FEWEST_BLOCKED = 256  # columns from which a table's short ones share files
MOST_BLOCKS = 10_000  # mapped at a time
OPENED = 6  # sources that a worker keeps open between its tasks


def _column_bytes(column: Column) -> int:
    return int(column.values.nbytes) + 64 * len(column.levels)


def _one(column: Column) -> int:
    return 1


def mapped_cache() -> BoundedCache[Column]:
    """For columns on disk, whose pages come and go by themselves."""
    return BoundedCache(MOST_MAPS, _one)


def _blocks_cache() -> BoundedCache[SpilledBlock]:
    return BoundedCache(MOST_BLOCKS, _one_block)


def _one_block(block: SpilledBlock) -> int:
    return 1


def _decoded_cache() -> BoundedCache[Column]:
    return BoundedCache(CACHE_SHARE * machine_bytes(), _column_bytes)


@dataclass(frozen=True, eq=False)
class Source:
    """An Arrow table, or one that stays in its files, behind any number of Tables; decoded column by column on first use. What is
    decoded is kept as long as memory allows, or on disk."""

    arrow: Any
    label: str
    kinds: Mapping[str, str]
    together: Mapping[str, tuple[str, ...]]
    reading: Reading = Reading()
    infinite: str = "error"
    dates: Mapping[str, str] = field(default_factory=dict)
    """Format of the dates of a column, where it was told."""
    codes: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """Per column, the values that stand for missing in it."""
    derived: tuple[Derived, ...] = ()
    made: Mapping[str, Column] = field(default_factory=dict, repr=False)
    """Columns that are in no file: twins and decoys, over every row; never written out."""
    decoys: tuple[str, ...] = ()
    decoded: BoundedCache[Column] = field(default_factory=_decoded_cache, repr=False)
    gaps: dict[str, bool] = field(default_factory=dict, repr=False)
    """Which columns have any missing cell, looked up once."""
    known_kinds: dict[str, Kind] = field(default_factory=dict, init=False, repr=False)
    """Kinds of columns that were decoded once, also where the columns themselves are not held any more."""
    blocks: BoundedCache[SpilledBlock] = field(default_factory=_blocks_cache, init=False, repr=False)
    """Short columns that lie in one file, by the place of the block."""
    spill: Spill | None = None
    """Where decoded columns go, for a source that is larger than memory."""
    limit: Any = None
    """Of memory, as it was said when the table was opened (`chaff.table.large_tables.Limit`)."""
    base: Source | None = field(default=None, repr=False)
    """The source that this one has some rows of."""
    picked: Ints | None = field(default=None, repr=False)
    """Which rows of the base those are."""

    def __reduce__(self) -> tuple[Any, ...]:
        """What travels to another process: where the data lies, or the data itself; a process opens each source once."""
        given = {f.name: getattr(self, f.name) for f in fields(self) if f.name not in ("decoded", "gaps", "known_kinds", "blocks")}
        return _opened_once, (self.token, self.spill is not None, given)

    @cached_property
    def token(self) -> str:
        """Tells this source from any other, in whatever process."""
        if not isinstance(self.arrow, StoredTable) or self.made or self.arrow.more:
            return uuid.uuid4().hex
        rows = b"" if self.picked is None else hashlib.sha256(self.picked.tobytes()).digest()
        text = (self.label, self.kinds, self.together, self.reading, self.infinite, self.dates, self.codes, self.derived, self.spill)
        return hashlib.sha256(repr((self.arrow.marks, text)).encode("utf-8", "surrogatepass") + rows).hexdigest()

    def take_rows(self, rows: Ints) -> Source:
        """Some rows in memory, as a source of its own; kinds, levels and gaps are those of all rows.

        Parameters
        ----------
        rows : int64, ascending
        """
        of_part = [c.take(rows) for c in self.made.values()]
        part = replace(self, spill=None, base=self, picked=rows, made={c.name: c for c in of_part})
        return replace(part, decoded=_decoded_cache(), gaps={})

    def fetched(self, names: Sequence[str], work: Work) -> Source:
        """Itself, some columns of its rows taken now, by whoever works: taken one by one, they would come when somebody waits for them."""
        for start in range(0, len(names), A_BLOCK):
            subset = names[start : start + A_BLOCK]
            for column in work.each(task(_fetched, self), subset):
                self.decoded.get(column.name, lambda name, column=column: column)  # type: ignore[misc]
        return self

    def deriving(self, more: tuple[Derived, ...]) -> Source:
        """The same data with further derived columns; what is decoded already is shared."""
        changed = {d.name for d in more}
        gaps = {k: v for k, v in self.gaps.items() if k not in changed}
        return replace(self, derived=(*self.derived, *more), decoded=self.decoded.without(changed), gaps=gaps)

    def with_made(self, columns: Sequence[Column], decoys: Sequence[str] = ()) -> Source:
        """The same data with further columns that are in no file; what is decoded already is shared.

        Raises
        ------
        DataError
            When a column of such a name is there.
        """
        taken = [c.name for c in columns if c.name in self.known]
        if taken:
            raise DataError(f"a column '{taken[0]}' is in {self.label} already: rename it")
        made = {**self.made, **{c.name: c for c in columns}}
        return replace(self, made=made, decoys=(*self.decoys, *decoys), decoded=self.decoded.without(()), gaps=dict(self.gaps))

    def apart(self, gaps: dict[str, bool]) -> Source:
        """The same data, nothing that was decoded shared; `gaps` says which columns count as having any."""
        return replace(self, decoded=_decoded_cache(), gaps=gaps)

    def named(self, label: str) -> Source:
        """The same data under another label."""
        return replace(self, label=label)

    @cached_property
    def known(self) -> frozenset[str]:
        """Every column there is, derived ones too."""
        return frozenset((*self.arrow.column_names, *self.together, *(d.name for d in self.derived), *self.made))

    def has_gaps(self, name: str) -> bool:
        """Whether any row of the source lacks this column."""
        if name not in self.gaps:
            of_all = self.base is not None and name in self.base.known
            self.gaps[name] = self.base.has_gaps(name) if of_all and self.base else bool(self.column(name).missing.any())
        return self.gaps[name]

    def kind(self, name: str) -> Kind:
        """Kind of a column."""
        if name not in self.known_kinds:
            self.known_kinds[name] = self.column(name).kind
        return self.known_kinds[name]

    @property
    def rows(self) -> int:
        return int(self.arrow.num_rows) if self.picked is None else int(self.picked.size)

    def column(self, name: str) -> Column:
        if self.spill is None:
            return self.decoded.get(name, self._decode)
        settle()
        result = self._from_block(name)
        return result if result is not None else self.decoded.get(name, self._spilled)

    def _from_block(self, name: str) -> Column | None:
        """A short column of a wide table, which lies in one file with its neighbours; None for any other."""
        k = self._in_block.get(name)
        result = None if k is None else self.blocks.get(str(k), self._opened_block)
        return None if result is None else result.column(name)

    @cached_property
    def _in_block(self) -> dict[str, int]:
        """Plain number columns → the block they lie in, by their place among all columns."""
        short = self.rows * 8 <= SHORT and isinstance(self.arrow, StoredTable) and self.base is None
        if not short or self.arrow.num_columns < FEWEST_BLOCKED or self.reading.missing:
            return {}
        apart = {*self.made, *self.together, *self.codes, *(d.name for d in self.derived), *self.arrow.more}
        return {f.name: k // A_BLOCK for k, f in enumerate(self.arrow.schema) if f.name not in apart and self._is_plain(f.name, f.type)}

    def _opened_block(self, key: str) -> SpilledBlock:
        first = int(key) * A_BLOCK
        names = [n for n in self.arrow.column_names[first : first + A_BLOCK] if n in self._in_block]
        assert self.spill is not None
        with _making[int(key) % len(_making)]:  # neighbours are often asked for by several threads at once
            return self.spill.block(repr((names, self.infinite)), names, lambda: self.arrow.numbers(names), self._as_column)

    def _as_column(self, name: str, values: Floats) -> Column:
        """Numbers of a file under their kind."""
        whole = str(self.arrow.schema.field(name).type).lstrip("u").startswith("int")
        return self._without_infinities(from_numbers(name, values, whole, self.kinds.get(name)))

    def _is_plain(self, name: str, kind: Any) -> bool:
        import pyarrow.types as pt

        return self.kinds.get(name) in (None, "number") and (pt.is_floating(kind) or pt.is_integer(kind))

    def _spilled(self, name: str) -> Column:
        """From disk, where it is put the first time."""
        if name in self.made or self.spill is None:
            return self._decode(name)
        text, reads = self.kinds.get(name), self.reading
        derived = [d for d in self.derived if d.name == name]
        how = (
            text,
            self.together.get(name),
            self.infinite,
            self.dates.get(name),
            self.codes.get(name),
            reads.missing,
            reads.decimal,
            derived,
        )
        plain = isinstance(self.arrow, StoredTable) and name in self.arrow.known and not (derived or how[4] or reads.missing)
        blocks = self._blocks_of_numbers(name) if plain and name not in self.together else None
        return self.spill.column(repr((name, how)), lambda: self._decode(name), blocks, partial(self._as_column, name))

    def _blocks_of_numbers(self, name: str) -> Callable[[], Iterator[Floats]] | None:
        """The values of a plain number column block by block; None for any other."""
        import pyarrow as pa

        if not self._is_plain(name, self.arrow.schema.field(name).type):
            return None
        return lambda: (floats_of(part.cast(pa.float64(), safe=False)) for part in self.arrow.chunks(name))

    def _decode(self, name: str) -> Column:
        if name in self.made:
            return self.made[name]
        if self.base is not None and name in self.base.known:
            return self.base.column(name).take(self.picked)
        if name in self.together:
            return self._join(name)
        for d in self.derived:
            if d.name == name and d.made == "missing flag":
                return flag_column(name, flag_cells(self._gaps_of(d.of)))
            if d.name == name and d.made != "fill":
                of = self.column(str(d.value)).values if d.made == "since" else d.value
                return Column(name, "number", date_part(d.made, self.column(d.of).values, of), whole=d.made in WHOLE)  # type: ignore[arg-type]
        return self._read(name)

    def _gaps_of(self, name: str) -> Any:
        return gaps_of(self._cells(name), self.infinite == "missing")

    def _cells(self, name: str) -> Any:
        """A column as it is stored, but for the codes that stand for missing in it."""
        codes = (*self.codes.get(name, ()), *self.reading.missing)
        cells = self.arrow.column(name) if self.picked is None else self.arrow.column(name).take(self.picked)
        return without_codes(cells, codes) if codes else cells

    def raw(self, name: str) -> Any:
        """A column as it is stored, codes for missing gone: for what must stay as it is, such as numbers of groups."""
        return self._cells(name)

    def _read(self, name: str) -> Column:
        cells, text = self._cells(name), self.kinds.get(name)
        fills = [d for d in self.derived if d.name == name and d.made == "fill"]
        for d in fills:
            cells = filled_cells(cells, self._gaps_of(name), d.value)
        if fills and text == "binary":
            text = None  # a word in the gaps may be a third level
        column = decode(name, cells, text, self.reading.decimal, self.dates.get(name))
        return self._without_infinities(column) if column.kind == "number" else column

    def _without_infinities(self, column: Column) -> Column:
        # One sum of squares is the cheapest test: only a column with gaps, infinities or huge numbers needs the slow look.
        with np.errstate(all="ignore"):
            squares = float(column.values @ column.values)
            clean = bool(np.isfinite(squares))
            plain = clean and squares > 1 / WIDEST_NUMBER
            largest = 1.0 if plain else float(np.max(np.abs(column.values), where=np.isfinite(column.values), initial=0.0))
        if largest > WIDEST_NUMBER:
            raise DataError(
                f"column '{column.name}' reaches {largest:.3g}, too large: its square overflows double precision. "
                "Take its logarithm, or ignore it"
            )
        if 0 < largest < 1 / WIDEST_NUMBER:
            raise DataError(
                f"column '{column.name}' reaches {largest:.3g} only, too small: its square underflows. Multiply it first, or ignore it"
            )
        count = 0 if clean else int(np.isinf(column.values).sum())
        if count and self.infinite == "error":
            raise DataError(
                f"column '{column.name}' has {count:,} infinite value{'s' * (count > 1)}; pass infinite='missing' "
                "(--infinite missing) or fix them"
            )
        return replace(column, values=np.where(np.isinf(column.values), np.nan, column.values)) if count else column

    def _join(self, name: str) -> Column:
        """Columns made beforehand from one category, read back as that category."""
        members = self.together[name]
        flags = np.stack([self._read(m).values for m in members])
        missing = np.isnan(flags).any(0)
        if not np.isin(flags[:, ~missing], (0.0, 1.0)).all() or (flags[:, ~missing].sum(0) > 1).any():
            raise DataError(
                f"together '{name}': {', '.join(members)} must hold 0 or 1 with at most one 1 in a row, "
                "as columns made from one category do"
            )
        none = flags.sum(0) == 0
        levels = (*members, "(none of them)") if none.any() else members
        codes = np.where(none, len(members), np.nan_to_num(flags).argmax(0)).astype(float)
        return Column(name, "category", np.where(missing, np.nan, codes), levels)


def _fetched(source: Source, name: str) -> Column:
    return source.column(name)


_opened: OrderedDict[str, Source] = OrderedDict()
_opening = threading.Lock()
_making = [threading.Lock() for _ in range(16)]


def _opened_once(token: str, spilled: bool, given: dict[str, Any]) -> Source:
    """A source that came from another process: the one that is open here already, or opened now."""
    with _opening:
        if token in _opened:
            _opened.move_to_end(token)
            return _opened[token]
        if spilled:
            given = {**given, "spill": given["spill"].here()}
        made = Source(**given, decoded=mapped_cache() if spilled else _decoded_cache())
        made.__dict__["token"] = token
        _opened[token] = made
        while len(_opened) > OPENED:
            _opened.popitem(last=False)
        return made
