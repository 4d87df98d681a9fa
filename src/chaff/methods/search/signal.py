"""Whether any single column tells about the target beyond chance, so that the answer cannot be the empty set."""

from __future__ import annotations

from chaff.errors import ChaffError
from chaff.evaluate.setting import Setting
from chaff.methods.relevance.stage import Relevance
from chaff.methods.search.ground import Ground
from chaff.table.table import Table
from chaff.work import Work

FAMILY_P = 0.01


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


class Signals:
    """Whether there is a signal on all rows, or on the training rows of a split; looked up when somebody asks, and once.

    The p-values are those that fit the rows: over groups, over the long run in time. Where there are none, and with repeated rows, for
    which they would not hold, the curve alone decides.
    """

    def __init__(self, ground: Ground) -> None:
        self.ground = ground
        self._known: dict[int | None, bool] = {}

    def on(self, where: int | None) -> bool:
        """where : number of a split, or None for all rows."""
        if self.ground.repeated is not None:
            return False
        if where not in self._known:
            train = self.ground.table if where is None else self.ground.rows(self.ground.splits[where])[0]
            self._known[where] = family_p(train)[1] < FAMILY_P
        return self._known[where]
