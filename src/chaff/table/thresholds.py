"""A target made from a number by thresholds; what it was made from takes no part."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from chaff.errors import DataError, UnknownColumn, UsageError, nearest
from chaff.table.kinds import decode
from chaff.table.terms import Terms


def with_made_target(arrow: Any, label: str, terms: Terms) -> tuple[Any, Terms, str]:
    """(the data with the target that thresholds make, terms that name it, a note)."""
    import pyarrow as pa

    column, above = terms.target, terms.target_above
    edges = _edges(above, terms.target_cuts or None)
    if column not in arrow.column_names:
        raise UnknownColumn(f"column '{column}' is not in {label}.{nearest(column, arrow.column_names)}")
    made = terms.target_name or (f"{column}_above_{edges[0]:g}" if above is not None else f"{column}_class")
    if made in arrow.column_names:
        raise UsageError(f"{label} has a column '{made}' already: pass target_name=… (--target-name) with another name for the target")
    values = decode(column, arrow.column(column), "number", terms.decimal).values
    named = _labels(terms.target_labels or None, edges, above is not None)
    place = np.searchsorted(edges, values, side="left")  # at the threshold itself: not above
    missing = np.isnan(values)
    if np.unique(place[~missing]).size < 2:
        raise DataError(
            f"every row falls into one class: '{column}' runs from {np.nanmin(values):g} to {np.nanmax(values):g}, "
            f"the threshold is {', '.join(f'{e:g}' for e in edges)}"
        )
    positive = terms.positive if terms.positive is not None else named[1] if len(named) == 2 else None
    ignore = tuple(dict.fromkeys([*terms.ignore, column]))
    metadata = arrow.schema.metadata
    words = pa.DictionaryArray.from_arrays(pa.array(place.astype(np.int32), mask=missing), pa.array(named, pa.string())).cast(pa.string())
    arrow = arrow.append_column(made, words).replace_schema_metadata(metadata)
    text = replace(terms, target=made, task="classification", positive=positive, ignore=ignore)
    return arrow, text, f"{made} was made from {column}, which is therefore ignored"


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
