"""Which columns a statistic sets against each other: what its p is read from where rows are no independent witnesses."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.methods.relevance.codes import coded
from chaff.methods.relevance.view import View
from chaff.stats.ranks import average_ranks

MOST_LEVELS = 50  # of a category; the rare ones beyond share one column

Contrast = tuple[Floats, Floats, Flags]
"""Columns of the feature (a, n) and of the target (b, n) over the rows present, and which rows those are."""


def values(view: View, name: str) -> Contrast:
    """A number against a number, or against classes."""
    x, some = _present(view, name)
    return x[None], _target(view, some), some


def ranks(view: View, name: str) -> Contrast:
    """The same by ranks, of a number target too."""
    x, some = _present(view, name)
    return average_ranks(x)[None], _ranked_target(view, some), some


def levels(view: View, name: str) -> Contrast:
    """Levels against a number, or against classes."""
    codes, some = _levels(view, name)
    return indicators(codes), _target(view, some), some


def levels_and_ranks(view: View, name: str) -> Contrast:
    """Levels against the ranks of a number."""
    codes, some = _levels(view, name)
    return indicators(codes), _ranked_target(view, some), some


def bend(view: View, name: str) -> Contrast:
    """Bins of a number, less a straight line in it, against what that line leaves of the target."""
    x, some = _present(view, name)
    codes = coded(view, [name]).codes[0][some].astype(np.int64)
    w = np.ones(x.size) if view.weights is None else view.weights[some]
    line = np.stack([np.ones(x.size), x - x.mean()]) if x.size else np.empty((2, 0))
    return _less(indicators(codes), line, w), _less(view.y[some][None], line, w), some


def indicators(codes: Ints) -> Floats:
    """(levels less one, n): 0/1 of every level but the commonest; past fifty the rare ones share one."""
    counts = np.bincount(codes) if codes.size else np.empty(0, np.int64)
    order = np.argsort(-counts, kind="stable")
    order = order[counts[order] > 0]
    own = order[1:MOST_LEVELS]
    out = (codes[None] == own[:, None]).astype(float)
    if order.size > MOST_LEVELS:
        out = np.vstack([out, 1.0 - out.sum(0) - (codes == order[0])])
    return out


def _less(columns: Floats, line: Floats, w: Floats) -> Floats:
    if not columns.size:
        return columns
    root = np.sqrt(w)
    fitted = np.linalg.lstsq((line * root).T, (columns * root).T, rcond=None)[0]
    return np.asarray(columns - fitted.T @ line)


def _present(view: View, name: str) -> tuple[Floats, Flags]:
    column = view.table.column(name).values
    some = ~np.isnan(column)
    return column[some], some


def _levels(view: View, name: str) -> tuple[Ints, Flags]:
    codes = view.levels_of(name)[0]
    some = codes >= 0
    return codes[some], some


def _target(view: View, some: Flags) -> Floats:
    return view.y[some][None] if view.regression else indicators(view.classes[some])


def _ranked_target(view: View, some: Flags) -> Floats:
    return average_ranks(view.y[some])[None] if view.regression else indicators(view.classes[some])
