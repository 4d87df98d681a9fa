"""Moments: weighted pairwise sums of design columns and target, from which everything linear is computed.

About a fixed shift: N_ij weight of the rows where i and j are both present, S_ij and Q_ij the sums of x_i and x_i^2 over
the rows where j is present, P_ij the sum of x_i x_j. What is stored is the complement, the same sums over rows where j is
*missing*, and only for columns that may be missing at all: cheap to fill, and nothing at all in a complete table.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.kernels.fill import add_complements, gather_shifted, mark_missing
from chaff.stats.blas import add_gram, mirror
from chaff.table.layout import Layout
from chaff.table.table import Table
from chaff.work import Work, task

BLOCK = 1024  # rows per product: block x columns should stay near the second-level cache
SHIFT_ROWS = 500  # rows whose medians give the shift
DENSE_SHARE = 0.15  # missing share from which matrix products beat row additions
CHUNK_BYTES = 1 << 23  # columns of one chunk: small enough to stay in the third-level cache while its parts are gathered

# What adds up, beside the counts of rows and their weight.
TABLES = ("sums", "P", "sums_missing", "squares_missing", "weight_missing", "rows_missing")


@dataclass(frozen=True)
class Moments:
    """Sums over some rows; `a + b` adds them for two sets of rows of the same layout and shift."""

    layout: Layout
    shift: Floats
    """float64 (q,); 0 for 0/1 columns."""
    rows: int
    weight: float
    sums: Floats
    """float64 (q,): weighted sums of the shifted columns over the rows where they are present."""
    P: Floats
    """float64 (q, q)."""
    sums_missing: Floats
    """float64 (gaps, q): weighted sums over the rows where gap column g is missing."""
    squares_missing: Floats
    weight_missing: Floats
    """float64 (gaps, gaps): weight of the rows where both gap columns are missing."""
    rows_missing: Ints
    """int64 (gaps,): unweighted count of missing cells."""

    def __add__(self, other: Moments) -> Moments:
        return self.sum_of([self, other])

    @staticmethod
    def sum_of(parts: Sequence[Moments]) -> Moments:
        """All of them added up, into one new table."""
        first, rest = parts[0], parts[1:]

        def total(name: str) -> Any:
            out = getattr(first, name).copy()
            for other in rest:
                out += getattr(other, name)
            return out

        return replace(first, rows=sum(m.rows for m in parts), weight=sum(m.weight for m in parts), **{n: total(n) for n in TABLES})

    def select(self, features: Sequence[str]) -> Moments:
        """The moments of fewer features, without a pass over the rows."""
        layout, columns = self.layout.select(features)
        gaps = np.searchsorted(self.layout.gaps, columns[layout.gaps])
        q = np.concatenate([columns, np.arange(self.layout.width, self.sums.size)])
        return replace(
            self,
            layout=layout,
            shift=self.shift[q],
            sums=self.sums[q],
            P=self.P[np.ix_(q, q)],
            sums_missing=self.sums_missing[np.ix_(gaps, q)],
            squares_missing=self.squares_missing[np.ix_(gaps, q)],
            weight_missing=self.weight_missing[np.ix_(gaps, gaps)],
            rows_missing=self.rows_missing[gaps],
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
    def weight_present(self) -> Floats:
        out = np.full(self.sums.size, self.weight)
        out[self.layout.gaps] -= np.diagonal(self.weight_missing)
        return out

    @property
    def N(self) -> Floats:
        gaps, q = self.layout.gaps, self.sums.size
        out = np.full((q, q), self.weight)
        own = np.diagonal(self.weight_missing)
        out[gaps, :] -= own[:, None]
        out[:, gaps] -= own[None, :]
        out[np.ix_(gaps, gaps)] += self.weight_missing
        return out

    @property
    def S(self) -> Floats:
        out = np.repeat(self.sums[:, None], self.sums.size, axis=1)
        out[:, self.layout.gaps] -= self.sums_missing.T
        return out

    @property
    def Q(self) -> Floats:
        out = np.repeat(np.diagonal(self.P)[:, None], self.sums.size, axis=1)
        out[:, self.layout.gaps] -= self.squares_missing.T
        return out

    @cached_property
    def means(self) -> Floats:
        """Weighted means about the shift, over the rows where each column is present; 0 where it never is."""
        weight = self.weight_present
        return np.where(weight > 0, self.sums / np.where(weight > 0, weight, 1.0), 0.0)

    def about(self, means: Floats) -> Floats:
        """Cross-products about `means` (given about the shift), a missing cell counting as its mean: exact mean filling."""
        m = means
        if self.complete:
            half = self.sums - 0.5 * self.weight * m
            out = self.P - np.outer(m, half)
            out -= np.outer(half, m)  # rather than the first one's transpose, which walks across the cache lines
            return out
        ms = m[:, None] * self.S.T
        return self.P - ms - ms.T + np.outer(m, m) * self.N


class Scratch:
    """Memory that learners of one thread share: one row block and its marks of missing cells."""

    def __init__(self, layout: Layout) -> None:
        q, g = layout.width + layout.targets, layout.gaps.size
        self.block, self.mask = np.empty((BLOCK, q)), np.empty((BLOCK, g))


class MomentsLearner:
    """start / add(chunk) / merge / finish for one set of rows."""

    def __init__(self, layout: Layout, shift: Floats, scratch: Scratch | None = None) -> None:
        q, g = layout.width + layout.targets, layout.gaps.size
        self.layout, self.shift = layout, shift
        self.rows, self.weight = 0, 0.0
        self.sums, self.P = np.zeros(q), np.zeros((q, q))
        self.sums_missing, self.squares_missing = np.zeros((g, q)), np.zeros((g, q))
        self.weight_missing, self.rows_missing = np.zeros((g, g)), np.zeros(g, np.int64)
        self._scratch = scratch or Scratch(layout)

    def add(self, columns: Floats, rows: Ints, weights: Floats | None) -> None:
        """Add rows of a column-major chunk.  columns : float64 (q, n).  rows : int64, which of its n.  weights : (n,)."""
        for start in range(0, rows.size, BLOCK):
            some = rows[start : start + BLOCK]
            self._add_block(columns, some, np.sqrt(weights[some]) if weights is not None else np.empty(0))

    def _add_block(self, columns: Floats, rows: Ints, root: Floats) -> None:
        b = rows.size
        Z = self._scratch.block[:b]
        holes = gather_shifted(columns, rows, self.shift, root, Z)
        add_gram(Z, self.P)
        self.sums += (root if root.size else np.ones(b)) @ Z
        self.rows += b
        self.weight += float(root @ root) if root.size else float(b)
        if not holes or not self.layout.gaps.size:
            return
        M = self._scratch.mask[:b]
        count = mark_missing(columns, self.layout.gaps, rows, M)
        self.rows_missing += M.sum(0).astype(np.int64)
        if count < DENSE_SHARE * M.size:
            add_complements(Z, M, root, self.sums_missing, self.squares_missing, self.weight_missing)
            return
        Mw = M * root[:, None] if root.size else M
        self.sums_missing += Mw.T @ Z
        self.squares_missing += M.T @ (Z * Z)
        self.weight_missing += Mw.T @ Mw

    def merge(self, other: MomentsLearner) -> MomentsLearner:
        """Add what another learner of the same layout and shift has seen. Modifies and returns this one."""
        self.rows += other.rows
        self.weight += other.weight
        for name in TABLES:
            mine = getattr(self, name)
            mine += getattr(other, name)
        return self

    def finish(self) -> Moments:
        return Moments(
            self.layout,
            self.shift,
            self.rows,
            self.weight,
            self.sums,
            mirror(self.P),
            self.sums_missing,
            self.squares_missing,
            self.weight_missing,
            self.rows_missing,
        )


def learn_shift(table: Table, layout: Layout) -> Floats:
    """Medians of a sample of rows for number columns and targets, 0 for 0/1 columns.

    A median, not a mean: one cell of 1e9 moves a mean so far that the sums lose the digits the rest lives in. The shift
    changes no result beyond rounding, so it may come from any rows.
    """
    rows = table.rows[:: max(1, len(table) // SHIFT_ROWS)]
    shift = np.zeros(layout.width + layout.targets)
    for f, name in enumerate(layout.features):
        column = table.source.column(name)
        if column.kind in ("number", "date"):
            shift[layout.starts[f]] = _median(column.values[rows])
    if table.target.task == "regression":
        shift[layout.width] = _median(table.y_all[rows])
    return shift


def _median(values: Floats) -> float:
    """The middle value (the upper of two), missing ones left out; 0 when there is none. Any shift near it would do."""
    present = values[~np.isnan(values)]
    return float(np.partition(present, present.size // 2)[present.size // 2]) if present.size else 0.0


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
    # Lanes, not workers, split the rows, so that sums do not depend on how many workers there are. Wide tables get one lane,
    # since every lane holds a q x q accumulator for each part.
    lanes = 2 if q <= 1500 else 1
    done = work.each(task(_lane, table, layout, shift, part, parts, lanes), range(lanes))
    for later in done[1:]:
        for mine, other in zip(done[0], later, strict=True):
            mine.merge(other)
    return [learner.finish() for learner in done[0]]


def _lane(table: Table, layout: Layout, shift: Floats, part: Ints, parts: int, lanes: int, k: int) -> list[MomentsLearner]:
    """Every `lanes`-th chunk of rows, from the k-th on."""
    q, targets, weights = layout.width + layout.targets, table.targets, table.weights
    size = int(np.clip(CHUNK_BYTES // (8 * q), BLOCK, 1 << 16))
    scratch = Scratch(layout)
    learners = [MomentsLearner(layout, shift, scratch) for _ in range(parts)]
    buffer = np.empty((q, min(size, len(table))))
    for start in range(0, len(table), size)[k::lanes]:
        where = slice(start, start + size)
        columns = layout.columns_of(table, where, targets, buffer)
        w = None if weights is None else weights[where]
        for j, learner in enumerate(learners):
            learner.add(columns, np.flatnonzero(part[where] == j), w)
    return learners


def table_moments(table: Table, features: Sequence[str], work: Work | None = None) -> Moments:
    """Moments over all rows in view."""
    return part_moments(table, features, np.zeros(len(table), np.int64), 1, work or Work())[0]


def live_columns(moments: Moments) -> Flags:
    """Design columns with any spread over these rows: a sum of squares about the mean that is more than rounding."""
    weight = np.maximum(moments.weight_present, np.finfo(float).tiny)
    about_shift = np.diagonal(moments.P)
    spread = about_shift - moments.sums**2 / weight
    return np.asarray(spread > 1e-12 * np.maximum(about_shift, np.finfo(float).tiny))
