"""Design: a row-major float64 matrix with a block of columns per feature."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.table.layout import Layout
from chaff.table.table import Table

BLOCK = 8192  # rows turned at a time


@dataclass(frozen=True)
class Design:
    """Rows of some features, every level of a category carried, missing numbers still NaN.

    Fills, base levels and pools belong to whoever learned them on training rows; `filled` takes the fills.
    """

    layout: Layout
    X: Floats
    """float64 (rows, layout.width)."""

    @classmethod
    def of(cls, table: Table, features: Sequence[str]) -> Design:
        layout = Layout.of(table, features)
        X = np.empty((len(table), layout.width))
        targets = table.targets
        for start in range(0, len(table), BLOCK):
            where = slice(start, start + BLOCK)
            X[where] = layout.columns_of(table, where, targets)[: layout.width].T
        return cls(layout, X)

    def select(self, features: Sequence[str]) -> Design:
        """The same rows with fewer features."""
        layout, columns = self.layout.select(features)
        return Design(layout, self.X[:, columns])

    def filled(self, means: Floats) -> Floats:
        """The matrix with each missing number at `means` (float64 (width,), in the columns' own units)."""
        return np.where(np.isnan(self.X), means[None, :], self.X)
