"""Folds follow the data: stratified for classes, whole groups together, time order respected (order beats groups)."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import DataError, UsageError
from chaff.table.repeated_rows import repeated_rows
from chaff.table.table import Table
from chaff.work import Work


@dataclass(frozen=True)
class Split:
    """One training and test split: parts of one partition of the rows."""

    repeat: int
    test: int
    train: tuple[int, ...]


@dataclass(frozen=True)
class Folds:
    """Partitions of the rows and the splits made of their parts. Training rows are always a union of parts, so that what
    is learned on them is a sum over parts that the test rows never entered."""

    parts: tuple[Ints, ...]
    """One per repeat: int64 (rows,), which part a row is in; -1 for none."""
    splits: tuple[Split, ...]
    how: str
    """In words: `5 folds, stratified`."""
    ordered: bool = False
    """Whether training parts must come before the test part in time."""

    @property
    def count(self) -> int:
        return len(self.splits)

    def rows(self, split: Split) -> tuple[Ints, Ints]:
        """(training rows, test rows) as positions in the table's view."""
        part = self.parts[split.repeat]
        return np.flatnonzero(np.isin(part, split.train)), np.flatnonzero(part == split.test)

    def inside(self, split: Split) -> Folds:
        """Folds among the training parts of one split, so that a choice can be made again without its test rows. None at all
        when the training rows are a single part."""
        inner = [
            Split(split.repeat, test, tuple(j for j in split.train if (j < test if self.ordered else j != test))) for test in split.train
        ]
        return Folds(self.parts, tuple(s for s in inner if s.train), f"{self.how}, inside", self.ordered)

    @cached_property
    def test_share(self) -> float:
        """Test rows over training rows, averaged over the splits: what the corrected variance needs."""
        shares = []
        for s in self.splits:
            train, test = self.rows(s)
            shares.append(test.size / train.size)
        return float(np.mean(shares))


def make_folds(table: Table, folds: int = 5, repeats: int = 1, work: Work | None = None) -> Folds:
    """Cross-validation folds that suit the table.

    With an order: folds + 1 blocks in time, each tested on all that came before it; repeats make no sense there.
    With groups: whole groups. With classes: each part has its share of every class. Rows that repeat one another stay together.
    """
    table.check_target()
    work = work or Work()
    n = len(table)
    units = None if table.order is not None else units_of(table)
    if folds < 2 or repeats < 1:
        raise UsageError(f"folds must be 2 or more and repeats 1 or more, not {folds} and {repeats}")
    if n < 2 * folds:
        raise DataError(f"{n:,} rows are too few for {folds} folds: at least two rows a fold are needed; use fewer folds")
    if table.order is not None:
        if repeats > 1:
            raise UsageError("rows with an order have one sequence of folds: repeats must be 1")
        part = time_blocks(table.order, folds + 1)
        splits = tuple(Split(0, k, tuple(range(k))) for k in range(1, folds + 1))
        return _weighed(table, Folds((part,), splits, f"{folds} folds in time order", True))
    parts, splits_all = [], []
    for r in range(repeats):
        rng = work.stream("folds", r)
        if table.groups is not None and units is not None:
            parts.append(whole_groups(units, folds, rng))
        elif units is not None:
            parts.append(_assigned_units(units, table.y if table.target.task == "classification" else np.zeros(n), folds, rng))
        elif table.target.task == "classification":
            parts.append(_stratified(table.y, folds, rng))
        else:
            parts.append(_even(n, folds, rng))
        splits_all += [Split(r, k, tuple(j for j in range(folds) if j != k)) for k in range(folds)]
    _check_classes(table, parts, folds)
    how = "by group" if table.groups is not None else "stratified" if table.target.task == "classification" else ""
    name = f"{folds} folds" + (f" × {repeats}" if repeats > 1 else "") + (f" {how}" if how else "")
    return _weighed(table, Folds(tuple(parts), tuple(splits_all), name))


def same_folds(a: Folds, b: Folds) -> bool:
    """Whether the same rows are learned from and tested in every split."""
    return a.splits == b.splits and len(a.parts) == len(b.parts) and all(map(np.array_equal, a.parts, b.parts))


def one_split(table: Table, train: Ints, test: Ints) -> Folds:
    """Learn on these rows, test on those: the holdout, in the form that scorers read."""
    part = np.full(len(table), -1, np.int64)
    part[train], part[test] = 0, 1
    return _weighed(table, Folds((part,), (Split(0, 1, (0,)),), "holdout"))


def split_holdout(table: Table, share: float, work: Work) -> tuple[Ints, Ints]:
    """(training rows, holdout rows), set aside before anything is looked at: the latest rows when there is an order, whole
    groups when there are groups, otherwise at random, with every class in its share."""
    if not 0 < share < 1:
        raise UsageError(f"holdout must be a share between 0 and 1, not {share}")
    n = len(table)
    rng = work.stream("holdout")
    units = None if table.order is not None else units_of(table)
    if table.order is not None:
        part = _latest(table.order, share)
    elif units is not None:
        part = _groups_for_share(units, share, rng)
    elif table.target.task == "classification":
        part = np.zeros(n, np.int64)
        for k in range(len(table.target.classes)):
            rows = rng.permutation(np.flatnonzero(table.y == k))
            part[rows[: round(share * rows.size)]] = 1
    else:
        part = np.zeros(n, np.int64)
        part[rng.permutation(n)[: round(share * n)]] = 1
    train, held = np.flatnonzero(part == 0), np.flatnonzero(part == 1)
    if held.size == 0 or train.size == 0:
        raise DataError(f"{n:,} rows are too few for a holdout of {share:.0%}: pass holdout=0 to do without one")
    return train, held


def units_of(table: Table) -> Ints | None:
    """int64 (rows,): what must stay in one fold and on one side of the holdout, groups and rows that repeat one another;
    None where each row stands for itself."""
    repeated = repeated_rows(table).units
    if table.groups is None or repeated is None:
        return table.groups if repeated is None else repeated
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    g = np.unique(table.groups, return_inverse=True)[1]
    size = int(g.max()) + 1
    links = coo_array((np.ones(g.size), (g, repeated + size)), shape=(size + int(repeated.max()) + 1,) * 2)
    return np.asarray(connected_components(links, directed=False)[1][g], np.int64)


def time_blocks(order: Floats, blocks: int) -> Ints:
    """Consecutive blocks of about equal size; rows of one moment stay in one block."""
    n = order.size
    ranked = np.argsort(order, kind="stable")
    place = np.empty(n, np.int64)
    place[ranked] = np.arange(n)
    first = np.searchsorted(order[ranked], order, side="left")  # the first row of the same moment speaks for all
    part = first * blocks // n
    used = np.unique(part)
    if used.size < blocks:
        raise DataError(f"the order has too few distinct moments for {blocks} blocks in time: use fewer folds")
    return part


def whole_groups(groups: Ints, folds: int, rng: np.random.Generator) -> Ints:
    """Largest group first into the smallest part so far, equal sizes in random order."""
    codes, sizes = np.unique(groups, return_counts=True)
    if codes.size < folds:
        raise DataError(f"{codes.size} groups are too few for {folds} folds: use at most {codes.size}")
    shuffled = rng.permutation(codes.size)
    order = shuffled[np.argsort(-sizes[shuffled], kind="stable")]
    load = np.zeros(folds)
    part_of = np.empty(codes.size, np.int64)
    for g in order:
        k = int(np.argmin(load))
        part_of[g] = k
        load[k] += sizes[g]
    return part_of[np.searchsorted(codes, groups)]


def _assigned_units(units: Ints, strata: Floats, folds: int, rng: np.random.Generator) -> Ints:
    """Whole units, stratum by stratum, the largest first into the part that has least of the stratum so far."""
    part = np.empty(units.size, np.int64)
    total = np.zeros(folds)
    for stratum in np.unique(strata):
        rows = np.flatnonzero(strata == stratum)
        codes, of, sizes = np.unique(units[rows], return_inverse=True, return_counts=True)
        permuted = rng.permutation(codes.size)
        place, load = np.empty(codes.size, np.int64), np.zeros(folds)
        for u in permuted[np.argsort(-sizes[permuted], kind="stable")]:
            k = int(np.lexsort((total, load))[0])
            place[u] = k
            load[k] += sizes[u]
            total[k] += sizes[u]
        part[rows] = place[of]
    return part


def _even(n: int, folds: int, rng: np.random.Generator) -> Ints:
    part = np.empty(n, np.int64)
    part[rng.permutation(n)] = np.arange(n) % folds
    return part


def _stratified(y: Floats, folds: int, rng: np.random.Generator) -> Ints:
    """Deal each class out in turn, going on where the last class stopped, so that part sizes stay even."""
    part = np.empty(y.size, np.int64)
    start = 0
    for k in np.unique(y):
        rows = rng.permutation(np.flatnonzero(y == k))
        part[rows] = (start + np.arange(rows.size)) % folds
        start += rows.size
    return part


def _latest(order: Floats, share: float) -> Ints:
    cut = np.sort(order)[min(order.size - 1, round((1 - share) * order.size))]
    return np.asarray(order >= cut).astype(np.int64)


def _groups_for_share(groups: Ints, share: float, rng: np.random.Generator) -> Ints:
    codes, sizes = np.unique(groups, return_counts=True)
    if codes.size < 2:
        raise DataError("one group only: a holdout of whole groups cannot be set aside")
    held: list[int] = []
    rows, wanted = 0, share * groups.size
    for g in rng.permutation(codes.size):
        if abs(rows + sizes[g] - wanted) < abs(rows - wanted) and len(held) < codes.size - 1:
            held.append(int(codes[g]))
            rows += int(sizes[g])
    if not held:
        held.append(int(codes[np.argmin(sizes)]))
    return np.isin(groups, held).astype(np.int64)


def _weighed(table: Table, folds: Folds) -> Folds:
    """The folds, if every side of every split carries weight: a side that weighs nothing can neither teach nor test."""
    if table.weights is None:
        return folds
    for k, split in enumerate(folds.splits, 1):
        for side, rows in zip(("training", "test"), folds.rows(split), strict=True):
            if not table.weights[rows].any():
                raise DataError(f"the {side} rows of fold {k} ({folds.how}) all have weight 0: use fewer folds, or leave such rows out")
    return folds


def _check_classes(table: Table, parts: list[Ints], folds: int) -> None:
    """Every training side needs at least two classes, or nothing can be learned there."""
    if table.target.task != "classification":
        return
    for part in parts:
        for k in range(folds):
            if np.unique(table.y[part != k]).size < 2:
                raise DataError(f"one fold's training rows hold a single class of '{table.target.name}': use fewer folds")
