"""What every call of overlap reads of a table, made once: moments, claims to stay, number columns as a matrix."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import DataError, UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.repeats import Priority, priorities
from chaff.stats.correlation import correlations_with_gaps
from chaff.table.design import Design
from chaff.table.moments import Moments, table_moments
from chaff.table.table import Table
from chaff.work import Work

GAP_ROWS = 20_000
NARROW = 300  # columns


@dataclass(frozen=True, eq=False)
class OverlapData:
    """A table whose features can all stand in a linear form, and the setting of the call."""

    table: Table
    setting: Setting
    explicit: bool = False
    """Whether its features were named: then categories with very many levels take part too."""
    _with_gaps: dict[bytes, Floats] = field(default_factory=dict, repr=False)

    @classmethod
    def of(cls, table: Table, setting: Setting | None = None) -> OverlapData:
        """The features that a linear form can take: no dates, no texts, nothing that is missing everywhere.

        Raises
        ------
        DataError
            When there is none.
        """
        left = [f for f in table.features if table.kind(f) not in ("date", "text") and not table.column(f).missing.all()]
        if not left:
            raise DataError(f"{table.label} has no column that a linear form could take")
        return cls(table.with_features(left), setting or Setting.unfolded(table))

    def correlations_with_gaps(self, columns: Ints, start: Floats | None = None) -> Floats:
        """Correlations of these design columns by maximum likelihood over all rows, or of a long table over a draw of them.

        columns : may go on past the design columns to those of the target.  start : to begin with.
        """
        key = columns.tobytes()
        if key not in self._with_gaps:
            table = self.setting.all_rows(self.table)
            most = rows_for(columns.size)
            if len(table) > most:
                table = table.take(np.sort(self.work.stream("rows with gaps").choice(len(table), most, replace=False)))
            X = np.column_stack([Design.of(table, table.features).X, table.targets])[:, columns]
            self._with_gaps[key] = correlations_with_gaps(X, table.weights, start)
        return self._with_gaps[key]

    @property
    def work(self) -> Work:
        return self.setting.work

    @cached_property
    def moments(self) -> Moments:
        """Of all features over every row, weighted as the table is."""
        return table_moments(self.setting.all_rows(self.table), self.table.features, self.work)

    @cached_property
    def plain_moments(self) -> Moments:
        """Of all features, every row counting alike."""
        if self.table.weights is None:
            return self.moments
        return table_moments(replace(self.setting.all_rows(self.table), weights_all=None), self.table.features, self.work)

    @cached_property
    def correlations(self) -> Floats:
        """Of all design columns and targets, over the rows that each pair shares."""
        return self.moments.correlations()

    @cached_property
    def plain_correlations(self) -> Floats:
        """The same with every row counting alike."""
        return self.correlations if self.table.weights is None else self.plain_moments.correlations()

    def columns_of(self, features: Sequence[str]) -> Ints:
        """Design columns of some features."""
        return self.moments.layout.select(features)[1]

    @cached_property
    def priorities(self) -> dict[str, Priority]:
        """Every feature's claim to stay where others say the same."""
        return priorities(self.table, self.setting)

    def numbers(self) -> list[str]:
        """Number and binary features."""
        return [f for f in self.table.features if self.table.kind(f) in ("number", "binary")]


def rows_for(columns: int) -> int:
    """Rows from which correlations of columns with gaps are taken at most."""
    return GAP_ROWS if columns <= NARROW else max(GAP_ROWS // 4, 10 * columns)


def complete_only(table: Table) -> Table:
    """The rows in which every number column is present.

    Raises
    ------
    DataError
        When hardly any is.
    """
    numbers = [f for f in table.features if table.kind(f) in ("number", "binary") and not table.column(f).missing.all()]
    there = np.ones(len(table), bool)
    for f in numbers:
        there &= ~table.column(f).missing
    if there.sum() < 3:
        raise DataError(
            f"only {int(there.sum()):,} rows have all {len(numbers)} number columns: leave out those with most gaps, or fill them "
            "(table.with_fill)"
        )
    return table if there.all() else table.take(np.flatnonzero(there))


def able(table: Table, features: Sequence[str] | None) -> Table:
    """The features that a linear form can take; what was asked for and is none is refused."""
    if features is None:
        return OverlapData.of(table).table
    table.check_known(features)
    wrong = [f for f in features if table.kind(f) in ("date", "text")]
    if wrong:
        raise UsageError(f"'{wrong[0]}' holds {table.kind(wrong[0])} values, which a linear form does not use")
    return OverlapData.of(table.with_features(features)).table
