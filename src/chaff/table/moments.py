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
from chaff.kernels.row_blocks import add_complements, fill_columns, fill_levels, mark_missing
from chaff.stats.blas import add_gram, mirror
from chaff.stats.correlation import correlation_from_products
from chaff.stats.tolerances import FLAT
from chaff.table.design import Layout
from chaff.table.on_disk.spilled import settle
from chaff.table.table import Table
from chaff.work import Work, task

LEAST_ROWS = 1024  # of a chunk, however many columns there are
SHIFT_ROWS = 100  # rows whose medians give the shift
DENSE_SHARE = 0.15  # missing share from which matrix products beat row additions
PRODUCTS = 2  # further tables of the same size that are made of them
WIDE = 1500  # design columns
LANES, LANE_ROWS = 64, 1_000_000
LANES_SHARE = 0.1  # of the memory, for what all lanes give back
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

    def correlations(self) -> Floats:
        """Pearson r of all design columns over the rows where both are present; NaN for columns without spread."""
        if not self.complete:
            return correlation_from_products(self.N, self.S, self.Q, self.P)
        C = self.about(self.means)
        spread = np.diagonal(C).copy()
        spread[spread <= FLAT * np.maximum(np.diagonal(self.P), np.finfo(float).tiny)] = np.nan
        scale = np.sqrt(spread)
        r = C / scale[:, None] / scale[None, :]
        np.clip(r, -1.0, 1.0, out=r)
        np.fill_diagonal(r, np.where(np.isnan(spread), np.nan, 1.0))
        return r

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


class MomentsBlock:
    """Rows of a table column by column: shifted, times root weight, 0 where missing, a line of ones (root weights) last.

    Parameters
    ----------
    size : int
        Most rows that it takes at a time.
    """

    def __init__(self, table: Table, layout: Layout, shift: Floats, size: int) -> None:
        q = layout.width + layout.targets
        self.table, self.layout, self.shift, self.count = table, layout, shift, 0
        self.Z, self.missing = np.empty((q + 1, size)), np.empty((layout.gaps.size, size))
        self.holes = np.zeros(layout.gaps.size, bool)
        """Which gap columns miss any of these rows."""
        numbers = np.flatnonzero(~layout.category)
        self._columns = [table.source.column(layout.features[f]).values for f in numbers]
        self._addresses = addresses_of(self._columns)
        self._lines = layout.starts[numbers]
        self._shifts = shift[self._lines]
        self._missing = np.zeros(numbers.size, np.int64)

    def fill(self, rows: Ints) -> None:
        """Take these rows of the view.  rows : int64, positions."""
        settle()
        table, layout, Z = self.table, self.layout, self.Z
        self.count, places = rows.size, table.rows[rows]
        root = np.empty(0) if table.weights_all is None else np.sqrt(table.weights_all[places])
        length = table.source.rows
        fill_columns(self._addresses, length, self._lines, places, self._shifts, root, Z, self._missing)
        for f in np.flatnonzero(layout.category):
            lines = Z[layout.starts[f] : layout.starts[f + 1]]
            fill_levels(table.source.column(layout.features[f]).values, places, root, lines)
        for t in range(layout.targets):
            line = Z[layout.width + t, : rows.size]
            line[:] = table.targets[rows, t] - self.shift[layout.width + t]
            if root.size:
                line *= root
        Z[-1, : rows.size] = root if root.size else 1.0
        self._mark(places)

    def _mark(self, places: Ints) -> None:
        """Note where the gap columns have holes in these rows of the source."""
        self.holes[:] = False
        for k in np.flatnonzero(self._missing):
            gap = int(np.searchsorted(self.layout.gaps, self._lines[k]))
            mark_missing(self._columns[k], places, self.missing[gap])
            self.holes[gap] = True


class MomentsLearner:
    """start / add(rows of a block) / merge / finish for one set of rows."""

    def __init__(self, layout: Layout, shift: Floats) -> None:
        q, g = layout.width + layout.targets, layout.gaps.size
        self.layout, self.shift = layout, shift
        self.rows = 0
        self.products = np.zeros((q + 1, q + 1))
        """Upper triangle: products of all columns and, in the last place, of ones: sums, and the weight."""
        self.sums_missing, self.squares_missing = np.zeros((g, q)), np.zeros((g, q))
        self.weight_missing, self.rows_missing = np.zeros((g, g)), np.zeros(g, np.int64)

    def add(self, block: MomentsBlock, start: int, stop: int) -> None:
        """Add the rows start..stop - 1 of a block."""
        add_gram(block.Z, start, stop, self.products)
        self.rows += stop - start
        if block.holes.any() and stop > start:
            self._add_complements(block, start, stop)

    def _add_complements(self, block: MomentsBlock, start: int, stop: int) -> None:
        """Only for blocks with holes: by rows, since each hole touches all columns of its row."""
        g = np.flatnonzero(block.holes)
        M = np.ascontiguousarray(block.missing[g, start:stop].T)
        Z = np.ascontiguousarray(block.Z[:-1, start:stop].T)
        root = block.Z[-1, start:stop].copy()
        self.rows_missing[g] += M.sum(0).astype(np.int64)
        sums, squares, both = (np.zeros((g.size, n)) for n in (Z.shape[1], Z.shape[1], g.size))
        if M.mean() < DENSE_SHARE:
            add_complements(Z, M, root, sums, squares, both)
        else:
            Mw = M * root[:, None]
            sums, squares, both = Mw.T @ Z, M.T @ (Z * Z), Mw.T @ Mw
        self.sums_missing[g] += sums
        self.squares_missing[g] += squares
        self.weight_missing[np.ix_(g, g)] += both

    def merge(self, other: MomentsLearner) -> MomentsLearner:
        """Add what another learner of the same layout and shift has seen. Modifies and returns this one."""
        self.rows += other.rows
        for name in ("products", "sums_missing", "squares_missing", "weight_missing", "rows_missing"):
            own = getattr(self, name)
            own += getattr(other, name)
        return self

    def finish(self) -> Moments:
        q = self.products.shape[0] - 1
        return Moments(
            self.layout,
            self.shift,
            self.rows,
            float(self.products[q, q]),
            self.products[:q, q].copy(),
            mirror(self.products[:q, :q].copy()),
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
    numbers = [f for f, name in enumerate(layout.features) if table.source.column(name).kind in ("number", "date")]
    subset = np.array([table.source.column(layout.features[f]).values[rows] for f in numbers]).reshape(len(numbers), rows.size)
    shift = np.zeros(layout.width + layout.targets)
    shift[layout.starts[numbers]] = _medians(subset)
    if table.target.task == "regression":
        shift[layout.width] = _medians(table.y_all[rows][None])[0]
    return shift


def _medians(values: Floats) -> Floats:
    """About the middle value of each line, missing cells left out; 0 when there is none. Any shift near it would do."""
    present = values.shape[1] - np.isnan(values).sum(1)
    ascending = np.sort(values, axis=1)  # missing cells come last
    middle = ascending[np.arange(len(values)), present // 2]
    return np.where(present > 0, np.nan_to_num(middle), 0.0)


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
    lanes = lanes_of(table, q, parts)
    if table.source.limit is not None:
        table.source.limit.check_products(q, lanes * parts + PRODUCTS, table.label)
    small = part.astype(np.int8 if parts < 128 else np.int64)  # it travels to every worker
    done = work.each(task(_lane, table, layout, shift, small, parts, lanes), range(lanes))
    for later in done[1:]:
        for own, other in zip(done[0], later, strict=True):
            own.merge(other)
    return [learner.finish() for learner in done[0]]


def lanes_of(table: Table, q: int, parts: int) -> int:
    """Into how many lanes the rows are split: by the table, not by the workers, so that sums do not depend on who works. A wide table
    has one, for every lane holds a q x q accumulator for each part; a long one on disk has more, so that many machines can take part."""
    if q > WIDE:
        return 1
    if table.source.spill is None or table.source.limit is None:
        return 2
    most = int(LANES_SHARE * table.source.limit.memory / (8 * q * q * parts))
    return max(2, min(LANES, most, len(table) // LANE_ROWS))


def _lane(table: Table, layout: Layout, shift: Floats, part: Ints, parts: int, lanes: int, k: int) -> list[MomentsLearner]:
    """Every other chunk of rows, or one stretch of many, so that a machine reads its part of each column only; the rows of a chunk are
    put in the order of their parts."""
    q = layout.width + layout.targets
    size = int(np.clip(CHUNK_BYTES // (8 * q), LEAST_ROWS, 1 << 16))
    block = MomentsBlock(table, layout, shift, min(size, len(table)))
    learners = [MomentsLearner(layout, shift) for _ in range(parts)]
    starts = range(0, len(table), size)
    for start in starts[k::lanes] if lanes <= 2 else starts[k * len(starts) // lanes : (k + 1) * len(starts) // lanes]:
        own = part[start : start + size]
        order = np.argsort(own, kind="stable") if parts > 1 or own.min() < 0 else np.arange(own.size)
        edges = np.searchsorted(own[order], np.arange(parts + 1))
        block.fill(start + order)
        for j, learner in enumerate(learners):
            learner.add(block, int(edges[j]), int(edges[j + 1]))
    return learners


def table_moments(table: Table, features: Sequence[str], work: Work | None = None) -> Moments:
    """Moments over all rows in view."""
    return part_moments(table, features, np.zeros(len(table), np.int64), 1, work or Work())[0]


def live_columns(moments: Moments) -> Flags:
    """Design columns with any spread over these rows: a sum of squares about the mean that is more than rounding."""
    weight = np.maximum(moments.weight_present, np.finfo(float).tiny)
    about_shift = np.diagonal(moments.P)
    spread = about_shift - moments.sums**2 / weight
    return np.asarray(spread > FLAT * np.maximum(about_shift, np.finfo(float).tiny))


def addresses_of(columns: list[Floats]) -> Ints:
    """Addresses of contiguous float64 arrays of one length, for kernels that take many columns in one call.

    Raises
    ------
    ValueError
        For any other array: a kernel would read what is not there.
    """
    lengths = {c.size for c in columns}
    if len(lengths) > 1 or any(c.dtype != float or not c.flags.c_contiguous for c in columns):
        raise ValueError("columns must be contiguous float64 arrays of one length")
    return np.array([c.__array_interface__["data"][0] for c in columns], np.int64)
