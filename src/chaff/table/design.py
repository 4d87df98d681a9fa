"""Design: a row-major float64 matrix with a block of columns per feature."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from chaff.arrays import Floats
from chaff.table.layout import Layout
from chaff.table.on_disk.arrays import room
from chaff.table.on_disk.spilled import Spill
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
    spill: Spill | None = field(default=None, repr=False)
    """Where room is found for more of these rows."""

    @classmethod
    def of(cls, table: Table, features: Sequence[str]) -> Design:
        layout = Layout.of(table, features)
        X = room(table.source.spill, (len(table), layout.width))
        targets = table.targets
        for start in range(0, len(table), BLOCK):
            where = slice(start, start + BLOCK)
            X[where] = layout.columns_of(table, where, targets)[: layout.width].T
        return cls(layout, X, table.source.spill)

    def select(self, features: Sequence[str]) -> Design:
        """The same rows with fewer features."""
        layout, columns = self.layout.select(features)
        X = room(self.spill, (len(self.X), len(columns)))
        for start in range(0, len(X), BLOCK):
            X[start : start + BLOCK] = self.X[start : start + BLOCK, columns]
        return Design(layout, X, self.spill)

    def filled(self, means: Floats) -> Floats:
        """The matrix with each missing number at `means` (float64 (width,), in the columns' own units)."""
        return self._filled(means, 0.0)

    def about(self, means: Floats) -> Floats:
        """The matrix less `means`, each missing number at its mean."""
        return self._filled(means, means)

    def product(self, means: Floats, coefficients: Floats) -> Floats:
        """`about(means) @ coefficients`, some rows at a time."""
        out = np.empty((len(self.X), coefficients.shape[1]))
        for start in range(0, len(out), BLOCK):
            subset = self.X[start : start + BLOCK]
            out[start : start + BLOCK] = (np.where(np.isnan(subset), means[None, :], subset) - means) @ coefficients
        return out

    def _filled(self, means: Floats, less: Floats | float) -> Floats:
        out = room(self.spill, self.X.shape)
        for start in range(0, len(out), BLOCK):
            subset = self.X[start : start + BLOCK]
            out[start : start + BLOCK] = np.where(np.isnan(subset), means[None, :], subset) - less
        return out
