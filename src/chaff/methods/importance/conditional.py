"""Permuting a feature given all the others: what it shares with them stays, only what is its own is shuffled.

A column that merely goes with one that matters is used by a forest too, so that shuffling it freely always costs something.
Given the others it is exchangeable, and shuffling costs nothing on rows that the forest has not learned from (Watson and
Wright, 2021). What the others say of a number is taken from a line.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.models.logistic import Standard
from chaff.models.protocols import Sample
from chaff.table.bins import Binning, Bins
from chaff.table.design import Design
from chaff.table.table import Table
from chaff.work import Work

RIDGE = 0.02  # of a column's own variance, so that near copies leave each other a little of their own
LEARNED_ROWS = 50_000  # evenly over a longer table: lines through more of them are the same lines
STRATUM = 12  # rows among which a category is shuffled: those of which the others say about the same


@dataclass(frozen=True)
class Conditional:
    """What all other columns say of each, learned on training rows."""

    standard: Standard
    precision: Floats
    """float64 (used columns, used columns): inverse of the correlation matrix."""
    columns: tuple[Ints, ...]
    """Used columns of each feature."""

    @classmethod
    def learn(cls, train: Table) -> Conditional:
        if len(train) > LEARNED_ROWS:
            train = train.take(np.linspace(0, len(train) - 1, LEARNED_ROWS).astype(np.int64))
        design = Design.of(train, train.features)
        weights = np.ones(len(train)) if train.weights is None else train.weights
        standard = Standard.learn(design.X, weights)
        Z = standard.apply(design.X)
        C = (Z * weights[:, None]).T @ Z / weights.sum()
        ridge = RIDGE + Z.shape[1] / max(len(train), 1) * 0.1
        place = {int(c): k for k, c in enumerate(standard.used)}
        starts = design.layout.starts
        columns = tuple(
            np.array([place[c] for c in range(starts[k], starts[k + 1]) if c in place], np.int64) for k in range(len(train.features))
        )
        return cls(standard, np.linalg.inv(C + ridge * np.eye(len(C))), columns)

    def own(self, Z: Floats, columns: Ints) -> Floats:
        """What the others do not say of some columns, float64 (n, columns): residuals of a ridge regression on all others."""
        block = self.precision[np.ix_(columns, columns)]
        return np.asarray(np.linalg.solve(block, (Z @ self.precision[:, columns]).T).T)


def permuted_given_others(result: Conditional, binning: Binning, rows: Sample, table: Table, work: Work, shuffle: int) -> Sample:
    """The sample with every feature's cells dealt out given the others, each feature by itself.

    Parameters
    ----------
    rows, table : Sample, Table
        Held-out rows in bins, and as they are.
    """
    Z = result.standard.apply(Design.of(table, table.features).X)
    codes = rows.data.codes.copy()
    for f, name in enumerate(table.features):
        stream, columns = work.stream("given others", shuffle, name), result.columns[f]
        column = table.column(name)
        if not columns.size:
            codes[f] = codes[f][stream.permutation(len(table))]
            continue
        own = result.own(Z, columns)
        given = Z[:, columns] - own
        if column.kind != "number" or column.missing.any():
            codes[f] = codes[f][within_strata(given, stream)]
            continue
        rerun = given[:, 0] + own[stream.permutation(len(table)), 0]
        at = result.standard.used[columns[0]]
        codes[f] = binning.bins[f].code(rerun * result.standard.spread[at] + result.standard.means[at])
    return replace(rows, data=Bins(rows.data.features, codes, rows.data.counts, rows.data.category))


def within_strata(given: Floats, stream: np.random.Generator) -> Ints:
    """A permutation of the rows that moves each among those of which the others say about the same."""
    n = len(given)
    centred = given - given.mean(0)
    if given.shape[1] > 1:
        direction = np.linalg.svd(centred, full_matrices=False)[2][0]
        score = centred @ direction
    else:
        score = centred[:, 0]
    order = np.lexsort((stream.random(n), score))
    shift = stream.integers(0, STRATUM)
    stratum = (np.arange(n) + shift) // STRATUM
    out = np.empty(n, np.int64)
    out[order] = order[np.lexsort((stream.random(n), stratum))]
    return out
