"""Whether the columns tell about the target beyond chance, one of them or all together, so that the answer cannot be the empty set."""

from __future__ import annotations

import numpy as np

from chaff.errors import ChaffError
from chaff.evaluate.setting import Setting
from chaff.methods.relevance.stage import Relevance
from chaff.methods.search.search_data import SearchData
from chaff.models.logistic import Standard
from chaff.stats.paired_loss import Units
from chaff.stats.score_test import score_p
from chaff.table.design import Design
from chaff.table.table import Table
from chaff.work import Work

FAMILY_P = 0.0075
"""Level of either test: of the best single column, times how many there are, and of all columns at once."""
MOST_CELLS = 20_000_000
"""Rows times columns up to which all columns are tested at once; so many rows tell by the curve."""


def family_p(table: Table) -> tuple[str, float]:
    """(the column with the smallest p, that p times the number of columns); ("", NaN) where none can be had."""
    try:
        frame = Relevance("tests").judge(table, Setting.unfolded(table, Work(workers=1))).frame
    except ChaffError:
        return "", float("nan")
    p = frame["p"].dropna()
    if p.empty:
        return "", float("nan")
    first = str(p.index[int(p.to_numpy().argmin())])
    return first, min(1.0, float(p.min()) * len(p))


def joint_p(table: Table) -> float:
    """p of all columns at once, in the linear form, telling nothing of the target; NaN where it cannot be had.

    Many weak columns, of which none is beyond chance alone, are seen by it (a score test of the sum of squares; Goeman, van de Geer and
    van Houwelingen, 2006; with many rows Hotelling's), by the units that the rows are.
    """
    if len(table) * len(table.features) > MOST_CELLS:
        return float("nan")
    design = Design.of(table, table.features)
    standard = Standard.learn(design.X, np.ones(len(table)) if table.weights is None else table.weights).pooled(design.layout)
    return score_p(standard.apply(design.X).T, table.targets.T, Units(table.weights, table.groups, table.order))


class Signals:
    """Whether there is a signal on all rows, or on the training rows of a split; looked up when somebody asks, and once.

    The p-values are those that fit the rows: over groups, over the long run in time. Where there are none, and with repeated rows, for
    which they would not hold, the curve alone decides.
    """

    def __init__(self, data: SearchData) -> None:
        self.data = data
        self._known: dict[int | None, bool] = {}

    def on(self, where: int | None) -> bool:
        """where : number of a split, or None for all rows."""
        if self.data.repeated is not None:
            return False
        if where not in self._known:
            train = self.data.table if where is None else self.data.rows(self.data.splits[where])[0]
            self._known[where] = family_p(train)[1] < FAMILY_P or joint_p(train) < FAMILY_P
        return self._known[where]
