"""What training rows decide about the columns of categories: base level, pooled rare levels, columns without spread."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.table.design import LEVELS_IN_LINEAR_FORM
from chaff.table.moments import Moments, live_columns


@dataclass(frozen=True)
class TrainedLevels:
    """Learned from training moments only.

    The commonest training level of a category is its base and has no column. Levels that no training row has predict as
    the base. Past 50 levels the 49 commonest keep a column of their own and the rest share one.
    """

    starts: Ints
    """int64 (features + 1,): slices of `columns` per feature."""
    columns: Ints
    """Design columns that take part, feature by feature; a pool is stood for by its first column."""
    pools: tuple[Ints, ...]
    """Design columns to be added up into the first of them."""

    @classmethod
    def learn(cls, train: Moments) -> TrainedLevels:
        layout = train.layout
        live = live_columns(train)[: layout.width]
        if not layout.category.any():
            return cls(np.concatenate([[0], np.cumsum(live)]).astype(np.int64), np.flatnonzero(live), ())
        pools: list[Ints] = []
        picked: list[Ints] = []
        for f in range(len(layout.features)):
            lo, hi = int(layout.starts[f]), int(layout.starts[f + 1])
            if not layout.category[f]:
                picked.append(np.arange(lo, hi)[live[lo:hi]])
                continue
            own, pool = _levels_in_use(train.sums[lo:hi])
            if pool.size > 1:
                pools.append(pool + lo)
            picked.append(np.sort(np.concatenate([own, pool[:1]])) + lo)
        starts = np.concatenate([[0], np.cumsum([c.size for c in picked])]).astype(np.int64)
        columns = np.concatenate(picked).astype(np.int64) if picked else np.empty(0, np.int64)
        return cls(starts, columns, tuple(pools))

    def fold(self, C: Floats) -> Floats:
        """Add pooled rows and columns of a cross-product table into the first of each pool. Modifies `C`, returns it."""
        for pool in self.pools:
            C[pool[0]] = C[pool].sum(0)
            C[:, pool[0]] = C[:, pool].sum(1)
        return C

    def spread(self, coefficients: Floats) -> Floats:
        """Give every member of a pool the pool's coefficient.  float64 (width, t). Modifies and returns it."""
        for pool in self.pools:
            coefficients[pool] = coefficients[pool[0]]
        return coefficients

    def of(self, features: Ints) -> Ints:
        """Columns of some features, in layout order."""
        parts = [self.columns[self.starts[f] : self.starts[f + 1]] for f in np.sort(features)]
        return np.concatenate(parts) if parts else np.empty(0, np.int64)


def _levels_in_use(weight: Floats) -> tuple[Ints, Ints]:
    """(levels with a column of their own, pooled levels): the commonest is the base, unseen ones are in neither."""
    order = np.argsort(-weight, kind="stable")
    seen = order[weight[order] > 0]
    most = LEVELS_IN_LINEAR_FORM - 1
    if seen.size <= LEVELS_IN_LINEAR_FORM:
        return seen[1:], np.empty(0, np.int64)
    return seen[1:most], seen[most:]
