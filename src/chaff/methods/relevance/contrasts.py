"""Which columns a statistic sets against each other: what its p is read from where rows are no independent witnesses."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.methods.relevance.bin_codes import coded
from chaff.methods.relevance.relevance_data import RelevanceData
from chaff.stats.ranks import average_ranks

MOST_LEVELS = 50  # of a category; the rare ones beyond share one column

Contrast = tuple[Floats, Floats, Flags]
"""Columns of the feature (a, n) and of the target (b, n) over the rows present, and which rows those are."""


def values(view: RelevanceData, name: str) -> Contrast:
    """A number against a number, or against classes."""
    x, subset = _present(view, name)
    return x[None], _target(view, subset), subset


def ranks(view: RelevanceData, name: str) -> Contrast:
    """The same by ranks, of a number target too."""
    x, subset = _present(view, name)
    return average_ranks(x)[None], _ranked_target(view, subset), subset


def levels(view: RelevanceData, name: str) -> Contrast:
    """Levels against a number, or against classes."""
    codes, subset = _levels(view, name)
    return indicators(codes), _target(view, subset), subset


def levels_and_ranks(view: RelevanceData, name: str) -> Contrast:
    """Levels against the ranks of a number."""
    codes, subset = _levels(view, name)
    return indicators(codes), _ranked_target(view, subset), subset


def bend(view: RelevanceData, name: str) -> Contrast:
    """Bins of a number, less a straight line in it, against what that line leaves of the target."""
    x, subset = _present(view, name)
    codes = coded(view, [name]).codes[0][subset].astype(np.int64)
    w = np.ones(x.size) if view.weights is None else view.weights[subset]
    line = np.stack([np.ones(x.size), x - x.mean()]) if x.size else np.empty((2, 0))
    return _less(indicators(codes), line, w), _less(view.y[subset][None], line, w), subset


def indicators(codes: Ints) -> Floats:
    """(levels less one, n): 0/1 of every level but the commonest; past fifty the rare ones share one."""
    counts = np.bincount(codes) if codes.size else np.empty(0, np.int64)
    order = np.argsort(-counts, kind="stable")
    order = order[counts[order] > 0]
    own = order[1:MOST_LEVELS]
    out = (codes[None] == own[:, None]).astype(float)
    if order.size > MOST_LEVELS:
        out = np.vstack([out, 1.0 - out.sum(0) - (codes == order[0])])
    answer: Floats = out
    return answer


def _less(columns: Floats, line: Floats, w: Floats) -> Floats:
    if not columns.size:
        return columns
    root = np.sqrt(w)
    fitted = np.linalg.lstsq((line * root).T, (columns * root).T, rcond=None)[0]
    return np.asarray(columns - fitted.T @ line)


def _present(view: RelevanceData, name: str) -> tuple[Floats, Flags]:
    column = view.table.column(name).values
    subset = ~np.isnan(column)
    return column[subset], subset


def _levels(view: RelevanceData, name: str) -> tuple[Ints, Flags]:
    codes = view.levels_of(name)[0]
    subset = codes >= 0
    return codes[subset], subset


def _target(view: RelevanceData, subset: Flags) -> Floats:
    return view.y[subset][None] if view.regression else indicators(view.classes[subset])


def _ranked_target(view: RelevanceData, subset: Flags) -> Floats:
    return average_ranks(view.y[subset])[None] if view.regression else indicators(view.classes[subset])
