"""A target made from a number by thresholds; what it was made from takes no part."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from chaff.errors import DataError, UnknownColumn, UsageError, nearest
from chaff.table.opening import open_table
from chaff.table.sources import Reading, read_source
from chaff.table.table import Source, Table


def derive_target(
    source: Any,
    column: str,
    *,
    above: float | None = None,
    cuts: Sequence[float] | None = None,
    labels: Sequence[str] | None = None,
    name: str | None = None,
    **options: Any,
) -> Table:
    """Open a table whose target is a number column held against a threshold, or cut at several.

    The column it was made from is ignored by itself: it would give the target away.

    Parameters
    ----------
    source : as in `chaff.open_table`
    column : str
        Number column that the target is made from. Rows where it is missing are left out.
    above : float, optional
        "yes" for rows above it, "no" for the others; "yes" is the positive class.
    cuts : list of float, optional
        Several thresholds in place of `above`: one class more than cuts.
    labels : list of str, optional
        Names of the classes from the lowest on; made from the thresholds when left out.
    name : str, optional
        Name of the target; ``loaf_volume_above_400`` or ``loaf_volume_class`` when left out.
    **options
        As in `chaff.open_table`.

    Returns
    -------
    Table

    Raises
    ------
    UnknownColumn, UsageError, DataError

    Examples
    --------
    >>> import chaff
    >>> table = chaff.derive_target(chaff.demo.lots(rows=60), "loaf_volume", above=400, ignore=["accepted", "grade"])
    >>> table.target.name, table.target.positive, "loaf_volume" in table.features
    ('loaf_volume_above_400', 'yes', False)
    """
    edges = _edges(above, cuts)
    reading = Reading(options.get("delimiter"), options.get("decimal"), options.get("encoding"), _words(options.get("missing", ())))
    arrow, label = read_source(source, reading)
    if column not in arrow.column_names:
        raise UnknownColumn(f"column '{column}' is not in {label}.{nearest(column, arrow.column_names)}")
    made = name or (f"{column}_above_{edges[0]:g}" if above is not None else f"{column}_class")
    if made in arrow.column_names:
        raise UsageError(f"{label} has a column '{made}' already: pass name=… with another name for the target")
    values = Source(arrow, label, {column: "number"}, {}, reading, options.get("infinite", "error")).column(column).values
    named = _labels(labels, edges, above is not None)
    place = np.searchsorted(edges, values, side="left")  # at the threshold itself: not above
    words = [None if np.isnan(v) else named[k] for v, k in zip(values, place, strict=True)]
    if len(set(words) - {None}) < 2:
        raise DataError(
            f"every row falls into one class: '{column}' runs from {np.nanmin(values):g} to {np.nanmax(values):g}, "
            f"the threshold is {', '.join(f'{e:g}' for e in edges)}"
        )
    import pyarrow as pa

    ignore = options.pop("ignore", ())
    ignore = [ignore] if isinstance(ignore, str) else list(ignore)
    positive = options.pop("positive", named[1] if len(named) == 2 else None)
    # Already read: how text is to be read must not be asked of the Arrow table again.
    rest = {k: v for k, v in options.items() if k not in ("delimiter", "decimal", "encoding")}
    table = open_table(
        arrow.append_column(made, pa.array(words, pa.string())),
        made,
        task="classification",
        positive=positive,
        ignore=list(dict.fromkeys([*ignore, column])),
        **rest,
    ).named(label)
    return replace(table, notes=(*table.notes, f"{made} was made from {column}, which therefore takes no part"))


def _edges(above: float | None, cuts: Sequence[float] | None) -> list[float]:
    if (above is None) == (cuts is None):
        raise UsageError("say either above=… (one threshold) or cuts=[…] (several)")
    edges = [float(above)] if above is not None else [float(c) for c in cuts or ()]
    if not edges or sorted(set(edges)) != edges or not np.isfinite(edges).all():
        raise UsageError(f"thresholds must be finite and rising, not {edges}")
    return edges


def _labels(labels: Sequence[str] | None, edges: list[float], yes_no: bool) -> list[str]:
    if labels is not None:
        if len(labels) != len(edges) + 1 or len(set(labels)) != len(labels):
            raise UsageError(f"{len(edges) + 1} different labels are needed, from the lowest class on; {len(labels)} were given")
        return [str(n) for n in labels]
    if yes_no:
        return ["no", "yes"]
    middle = [f"{a:g} to {b:g}" for a, b in itertools.pairwise(edges)]
    return [f"to {edges[0]:g}", *middle, f"above {edges[-1]:g}"]


def _words(missing: str | Sequence[str]) -> tuple[str, ...]:
    return (missing,) if isinstance(missing, str) else tuple(missing)
