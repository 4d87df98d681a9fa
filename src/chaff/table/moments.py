"""Moments: weighted pairwise sums of design columns and target, from which everything linear is computed.

About a fixed shift: N_ij weight of the rows where i and j are both present, S_ij and Q_ij the sums of x_i and x_i^2 over
the rows where j is present, P_ij the sum of x_i x_j. What is stored is the complement, the same sums over rows where j is
*missing*, and only for columns that may be missing at all: cheap to fill, and nothing at all in a complete table.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from chaff.kernels.fill import add_complements, gather_shifted, mark_missing
from chaff.table.kinds import Values
from chaff.table.layout import Ints, Layout
from chaff.table.table import Table
from chaff.work import Work

BLOCK = 1024  # rows per product: block x columns should stay near the second-level cache
SHIFT_ROWS = 2000  # rows whose medians give the shift
DENSE_SHARE = 0.15  # missing share from which matrix products beat row additions
CHUNK_BYTES = 1 << 28


@dataclass(frozen=True)
class Moments:
    """Sums over some rows; `a + b` adds them for two sets of rows of the same layout and shift."""

    layout: Layout
    shift: Values
    """float64 (q,); 0 for 0/1 columns."""
    rows: int
    weight: float
    sums: Values
    """float64 (q,): weighted sums of the shifted columns over the rows where they are present."""
    P: Values
    """float64 (q, q)."""
    sums_missing: Values
    """float64 (gaps, q): weighted sums over the rows where gap column g is missing."""
    squares_missing: Values
    weight_missing: Values
    """float64 (gaps, gaps): weight of the rows where both gap columns are missing."""
    rows_missing: Ints
    """int64 (gaps,): unweighted count of missing cells."""

    def __add__(self, other: Moments) -> Moments:
        return replace(
            self,
            rows=self.rows + other.rows,
            weight=self.weight + other.weight,
            sums=self.sums + other.sums,
            P=self.P + other.P,
            sums_missing=self.sums_missing + other.sums_missing,
            squares_missing=self.squares_missing + other.squares_missing,
            weight_missing=self.weight_missing + other.weight_missing,
            rows_missing=self.rows_missing + other.rows_missing,
        )

    @property
    def complete(self) -> bool:
        return not self.rows_missing.any()

    @cached_property
    def present(self) -> Ints:
        """int64 (q,): rows in which each column is present."""
        out = np.full(self.sums.size, self.rows, np.int64)
        out[self.layout.gaps] -= self.rows_missing
        return out

    @cached_property
    def weight_present(self) -> Values:
        out = np.full(self.sums.size, self.weight)
        out[self.layout.gaps] -= np.diagonal(self.weight_missing)
        return out

    @property
    def N(self) -> Values:
        gaps, q = self.layout.gaps, self.sums.size
        out = np.full((q, q), self.weight)
        own = np.diagonal(self.weight_missing)
        out[gaps, :] -= own[:, None]
        out[:, gaps] -= own[None, :]
        out[np.ix_(gaps, gaps)] += self.weight_missing
        return out

    @property
    def S(self) -> Values:
        out = np.repeat(self.sums[:, None], self.sums.size, axis=1)
        out[:, self.layout.gaps] -= self.sums_missing.T
        return out

    @property
    def Q(self) -> Values:
        out = np.repeat(np.diagonal(self.P)[:, None], self.sums.size, axis=1)
        out[:, self.layout.gaps] -= self.squares_missing.T
        return out

    @cached_property
    def means(self) -> Values:
        """Weighted means about the shift, over the rows where each column is present; 0 where it never is."""
        weight = self.weight_present
        return np.where(weight > 0, self.sums / np.where(weight > 0, weight, 1.0), 0.0)

    def about(self, means: Values) -> Values:
        """Cross-products about `means` (given about the shift), a missing cell counting as its mean: exact mean filling."""
        m = means
        if self.complete:
            ms = np.outer(m, self.sums)
            return self.P - ms - ms.T + self.weight * np.outer(m, m)
        ms = m[:, None] * self.S.T
        return self.P - ms - ms.T + np.outer(m, m) * self.N

    def slice(self, columns: Ints) -> Moments:
        """The same sums for some design columns; the targets follow behind as before. Layout-free: `layout.features` is
        kept by name only, so this is for arithmetic, not for asking which feature a column belongs to."""
        keep = np.concatenate([columns, np.arange(self.layout.width, self.sums.size)])
        inside = np.isin(self.layout.gaps, keep)
        place = {int(c): k for k, c in enumerate(keep)}
        layout = replace(
            self.layout,
            columns=tuple(self.layout.columns[c] for c in columns),
            gaps=np.array([place[int(g)] for g in self.layout.gaps[inside]], np.int64),
        )
        return replace(
            self, layout=layout, shift=self.shift[keep], sums=self.sums[keep], P=self.P[np.ix_(keep, keep)],
            sums_missing=self.sums_missing[inside][:, keep], squares_missing=self.squares_missing[inside][:, keep],
            weight_missing=self.weight_missing[np.ix_(inside, inside)], rows_missing=self.rows_missing[inside],
        )  # fmt: skip


class MomentsLearner:
    """start / add(chunk) / merge / finish for one set of rows."""

    def __init__(self, layout: Layout, shift: Values) -> None:
        q, g = layout.width + layout.targets, layout.gaps.size
        self.layout, self.shift = layout, shift
        self.rows, self.weight = 0, 0.0
        self.sums, self.P = np.zeros(q), np.zeros((q, q))
        self.sums_missing, self.squares_missing = np.zeros((g, q)), np.zeros((g, q))
        self.weight_missing, self.rows_missing = np.zeros((g, g)), np.zeros(g, np.int64)
        self._block, self._mask, self._product = np.empty((BLOCK, q)), np.empty((BLOCK, g)), np.empty((q, q))

    def add(self, columns: Values, rows: Ints, weights: Values | None) -> None:
        """Add rows of a column-major chunk.  columns : float64 (q, n).  rows : int64, which of its n.  weights : (n,)."""
        for start in range(0, rows.size, BLOCK):
            some = rows[start : start + BLOCK]
            self._add_block(columns, some, np.sqrt(weights[some]) if weights is not None else np.empty(0))

    def _add_block(self, columns: Values, rows: Ints, root: Values) -> None:
        b = rows.size
        Z = self._block[:b]
        holes = gather_shifted(columns, rows, self.shift, root, Z)
        np.dot(Z.T, Z, out=self._product)  # NumPy sees one operand and calls SYRK
        self.P += self._product
        self.sums += (root if root.size else np.ones(b)) @ Z
        self.rows += b
        self.weight += float(root @ root) if root.size else float(b)
        if not holes or not self.layout.gaps.size:
            return
        M = self._mask[:b]
        count = mark_missing(columns, self.layout.gaps, rows, M)
        self.rows_missing += M.sum(0).astype(np.int64)
        if count < DENSE_SHARE * M.size:
            add_complements(Z, M, root, self.sums_missing, self.squares_missing, self.weight_missing)
            return
        Mw = M * root[:, None] if root.size else M
        self.sums_missing += Mw.T @ Z
        self.squares_missing += M.T @ (Z * Z)
        self.weight_missing += Mw.T @ Mw

    def finish(self) -> Moments:
        return Moments(
            self.layout, self.shift, self.rows, self.weight, self.sums, self.P,
            self.sums_missing, self.squares_missing, self.weight_missing, self.rows_missing,
        )  # fmt: skip


def learn_shift(table: Table, layout: Layout) -> Values:
    """Medians of a sample of rows for number columns and targets, 0 for 0/1 columns.

    A median, not a mean: one cell of 1e9 moves a mean so far that the sums lose the digits the rest lives in. The shift
    changes no result beyond rounding, so it may come from any rows.
    """
    step = max(1, len(table) // SHIFT_ROWS)
    some = table.take(np.arange(0, len(table), step)) if step > 1 else table
    shift = np.zeros(layout.width + layout.targets)
    for f, name in enumerate(layout.features):
        if table.kind(name) in ("number", "date"):
            values = some.column(name).values
            present = values[~np.isnan(values)]
            shift[layout.starts[f]] = np.median(present) if present.size else 0.0
    if table.target.task == "regression":
        shift[layout.width] = np.median(some.y)
    return shift


def part_moments(table: Table, features: Sequence[str], part: Ints, parts: int, work: Work) -> list[Moments]:
    """Moments of every part of the rows in one pass.

    Parameters
    ----------
    table : Table
    features : sequence of str
    part : int64 (rows,)
        Which part (0..parts-1) a row belongs to; -1 for none.
    """
    layout = Layout.of(table, features)
    shift = learn_shift(table, layout)
    q = layout.width + layout.targets
    # Two halves a part keep two workers evenly busy; wide tables get one, since each accumulator is q x q.
    halves = 2 if q <= 1500 else 1
    learners = [[MomentsLearner(layout, shift) for _ in range(halves)] for _ in range(parts)]
    targets, weights = table.targets, table.weights
    size = max(BLOCK, min(1 << 20, CHUNK_BYTES // (8 * q)))
    for where, block in table.chunks(features, size):
        columns = layout.expand(block, targets[where])
        own, w = part[where], None if weights is None else weights[where]
        rows = [np.flatnonzero(own == k) for k in range(parts)]

        def add(unit: tuple[int, int], columns: Values = columns, w: Values | None = w, rows: list[Ints] = rows) -> None:
            k, half = unit
            learners[k][half].add(columns, np.array_split(rows[k], halves)[half], w)

        work.each(add, [(k, h) for k in range(parts) for h in range(halves)])
    return [_merged(pair) for pair in learners]


def _merged(learners: list[MomentsLearner]) -> Moments:
    total = learners[0].finish()
    for other in learners[1:]:
        total = total + other.finish()
    return total


def table_moments(table: Table, features: Sequence[str], work: Work | None = None) -> Moments:
    """Moments over all rows in view."""
    return part_moments(table, features, np.zeros(len(table), np.int64), 1, work or Work())[0]


def live_columns(moments: Moments) -> npt.NDArray[np.bool_]:
    """Design columns with any spread over these rows: a sum of squares about the mean that is more than rounding."""
    weight = np.maximum(moments.weight_present, np.finfo(float).tiny)
    about_shift = np.diagonal(moments.P)
    spread = about_shift - moments.sums**2 / weight
    return np.asarray(spread > 1e-12 * np.maximum(about_shift, np.finfo(float).tiny))
