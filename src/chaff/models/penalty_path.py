"""The path of penalties on training rows, and the choice of one of them on inner folds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Literal

import numpy as np

from chaff.arrays import Flags, Floats, Ints

Choose = Literal["best", "one standard error"]


@dataclass(frozen=True)
class PenaltyPath:
    """Every penalty that was looked at: its coefficients on all training rows, and its loss on each inner fold."""

    penalties: Floats
    """float64 (penalties,), largest first; a column whose correlation with what is left stays under it is out."""
    coefficients: Floats = field(repr=False)
    """float64 (penalties, used columns, targets), per standard deviation of the column, of the target's too if it is a number."""
    violations: Floats = field(repr=False)
    """float64 (penalties,): largest distance from the optimality conditions."""
    losses: Floats = field(default_factory=lambda: np.empty((0, 0)), repr=False)
    """float64 (folds, penalties): mean loss of each inner fold, squared error in units of the target's variance, or log loss."""
    chosen: int = 0

    @property
    def best(self) -> int:
        """The penalty of the lowest mean loss, the larger of two alike."""
        return int(np.argmin(self.losses.mean(0))) if self.losses.size else self.chosen

    @property
    def one_standard_error(self) -> int:
        """The largest penalty whose mean loss is within one standard error of the best."""
        if len(self.losses) < 2:
            return self.best
        mean = self.losses.mean(0)
        error = self.losses[:, self.best].std(ddof=1) / np.sqrt(len(self.losses))
        return int(np.flatnonzero(mean <= mean[self.best] + error)[0])

    @property
    def at_edge(self) -> str:
        """ "low" or "high" where the best penalty is the last or first that was tried; "" otherwise."""
        if len(self.losses) == 0 or self.penalties.size < 2:
            return ""
        return "low" if self.best == self.penalties.size - 1 else "high" if self.best == 0 else ""

    def entered(self, starts: Ints) -> Ints:
        """int64 (features,): the first penalty at which any column of a feature is in; as many as there are penalties where none is."""
        inside = (self.coefficients != 0).any(2)
        first = np.where(inside.any(0), inside.argmax(0), self.penalties.size)
        return np.array([first[a:b].min(initial=self.penalties.size) for a, b in pairwise(starts)], np.int64)


def default_penalties(top: float, tall: bool) -> Floats:
    """A hundred penalties, evenly spaced in the logarithm, from where nothing is in to a thousandth (a number, more rows than
    columns) or a hundredth of that."""
    return np.asarray(max(top, 1e-12) * np.logspace(0, -3 if tall else -2, 100))


def equal_columns(Z: Floats) -> list[Ints]:
    """Columns of a centred design of unit spread that are equal or opposite: sets of places, each in ascending order.

    Found among neighbours of two random projections, then compared whole.
    """
    n, q = Z.shape
    if q < 2:
        return []
    projections = np.abs(np.random.default_rng(0).normal(size=(2, n)) @ Z)
    order = np.lexsort((np.arange(q), projections[0]))
    near = np.abs(np.diff(projections[:, order], axis=1)).max(0) <= 1e-9 * np.sqrt(n)
    out, at = [], 0
    while at < q - 1:
        end = at
        while end < q - 1 and near[end]:
            end += 1
        run = np.sort(order[at : end + 1])
        while run.size > 1:
            r = Z[:, run].T @ Z[:, run[0]] / (Z[:, run[0]] @ Z[:, run[0]])
            same = np.abs(np.abs(r) - 1) < 1e-9
            if same.sum() > 1:
                out.append(run[same])
            run = run[~same]
        at = end + 1
    return out


@dataclass(frozen=True)
class Twins:
    """Equal columns, told apart by nothing: the first of each set stands for all of them while a path is walked."""

    sets: Sequence[Ints]
    width: int
    sign: Floats
    """float64 (width,): −1 for the opposite of the one that stands for it."""

    @classmethod
    def of(cls, Z: Floats) -> Twins:
        sets, sign = equal_columns(Z), np.ones(Z.shape[1])
        for s in sets:
            sign[s] = np.sign(Z[:, s].T @ Z[:, s[0]])
        return cls(sets, Z.shape[1], sign)

    @property
    def stands(self) -> Flags:
        out = np.ones(self.width, bool)
        for s in self.sets:
            out[s[1:]] = False
        return out

    def spread(self, B: Floats) -> Floats:
        """Coefficients (…, width, targets) with those of each set shared out evenly among its columns."""
        B = B.copy()
        for s in self.sets:
            B[..., s, :] = B[..., s[:1], :] * (self.sign[s] / s.size)[:, None]
        return B
