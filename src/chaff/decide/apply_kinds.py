"""Cells of new data under the kinds that a selection knows: codes taken out, words read as numbers, anything else refused."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from chaff.decide.selection_parts import SelectionData
from chaff.errors import DataError
from chaff.table.derived import without_codes
from chaff.table.kinds import all_whole, numbers_of

if TYPE_CHECKING:
    from chaff.decide.drift import Watcher
    from chaff.decide.selection_parts import KeptPart


@dataclass(frozen=True)
class From:
    """Where a column comes from, and how its numbers are to leave."""

    label: str
    decimal: str | None
    as_written: bool
    watcher: Watcher | None = None
    """Sees what every column holds."""

    def see(self, name: str, column: Any) -> Any:
        if self.watcher is not None:
            self.watcher.see(name, column)
        return column


def plain_cells(selection: SelectionData, name: str, column: Any) -> Any:
    codes = (*map(str, selection.terms.missing_codes.get(name, ())), *map(str, selection.terms.missing))
    return without_codes(column, codes) if codes else column


def of_kind(selection: SelectionData, part: KeptPart, name: str, column: Any, source: From) -> Any:
    import pyarrow as pa
    import pyarrow.types as pt

    kind = column.type.value_type if pt.is_dictionary(column.type) else column.type
    wordy = pt.is_string(kind) or pt.is_large_string(kind) or pt.is_string_view(kind)
    if part.words:
        if pt.is_null(kind):
            return column.cast(pa.string())
        if not wordy and not pt.is_boolean(kind):
            raise _other_kind(part, name, source.label, f"{_sort(kind)} values")
        return source.see(name, column)
    if wordy:
        return _numbers(selection, part, name, column, source)
    if pt.is_floating(kind):
        return source.see(name, _finite(column, selection.terms.infinite, name, source.label))
    numeric = pt.is_integer(kind) or pt.is_decimal(kind) or pt.is_boolean(kind) or pt.is_null(kind)
    if not part.members and not numeric:
        raise _other_kind(part, name, source.label, f"{_sort(kind)} values{_example(column)}")
    return source.see(name, column)


def _numbers(selection: SelectionData, part: KeptPart, name: str, column: Any, source: From) -> Any:
    """A column of words as numbers; refused where a cell is none."""
    if part.levels is not None and part.kind == "binary" and set(column.unique().drop_null().to_pylist()) <= set(part.levels):
        return source.see(name, column)  # two words that are its levels
    number, wrong = read_numbers(column, source.decimal, exact=not source.as_written)
    if wrong:
        raise _other_kind(part, name, source.label, f"text values (such as '{wrong[:60]}')")
    number = _finite(plain_cells(selection, name, number), selection.terms.infinite, name, source.label)  # by value: -999 is -999.0
    source.see(name, number)
    filled = name in {d.of for d in selection.derived}
    return column if source.as_written and number.null_count == column.null_count and not filled else number


def read_numbers(column: Any, decimal: str | None, exact: bool = True) -> tuple[Any, str]:
    """(the words as numbers, exact whole ones where all are written so and it is asked for; the first word that is none)."""
    import pyarrow as pa

    quick = _plainly_numbers(column, exact) if decimal in (None, ".") else None
    if quick is not None:
        return quick, ""
    encoded = column.combine_chunks().dictionary_encode()
    words = encoded.dictionary.to_pylist()
    if all_whole(words):
        values = pa.array([int(w) for w in words], pa.int64())
    else:
        floats = numbers_of(words, decimal)
        wrong = next((w for w, v in zip(words, floats, strict=True) if v != v), "")
        if wrong:
            return column, wrong
        values = pa.array(floats, pa.float64())
    return pa.chunked_array([values.take(encoded.indices)]), ""


def _plainly_numbers(column: Any, exact: bool) -> Any | None:
    """The words as numbers by Arrow's own reader, where every one is plainly written as one; None where any is not (a space, a word, a
    `nan`): then the slow reader looks at each."""
    import pyarrow as pa
    import pyarrow.compute as pc

    try:
        floats = pc.cast(column, pa.float64())
    except pa.ArrowInvalid:
        return None
    if not pc.all(pc.is_finite(floats)).as_py() and floats.null_count < len(floats):
        return None
    if not exact or not pc.all(pc.equal(pc.floor(floats), floats)).as_py():  # asked first: a cast that fails is slow
        return floats
    try:
        return pc.cast(column, pa.int64())
    except pa.ArrowInvalid:
        return floats


def _finite(column: Any, infinite: str, name: str, label: str) -> Any:
    """Infinite cells as the table that was selected from had them: missing, or refused."""
    import pyarrow as pa
    import pyarrow.compute as pc
    import pyarrow.types as pt

    if not pt.is_floating(column.type):
        return column
    wild = pc.fill_null(pc.is_inf(column), False)
    if not pc.any(wild).as_py():
        return column
    if infinite != "missing":
        raise DataError(f"column '{name}' of {label} has infinite values; the rows of the selection had none")
    return pc.if_else(wild, pa.scalar(None, column.type), column)


def _other_kind(part: KeptPart, name: str, label: str, holds: str) -> DataError:
    wants = "words" if part.words else "numbers"
    return DataError(f"column '{name}' of {label} holds {holds}, but the selection has it as {part.kind} ({wants})")


def _sort(kind: Any) -> str:
    import pyarrow.types as pt

    if pt.is_temporal(kind):
        return "date"
    if pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind):
        return "number"
    return "text"


def _example(column: Any) -> str:
    """The first cell that is no number."""
    import pyarrow as pa

    try:
        values = column.to_pylist()
    except (pa.ArrowInvalid, ValueError, OverflowError):
        return ""  # a time zone that nobody knows, or a date too far away to be shown
    for value in values:
        try:
            float(value)
        except (TypeError, ValueError):
            if value is not None:
                return f" (such as '{value}')"
    return ""
