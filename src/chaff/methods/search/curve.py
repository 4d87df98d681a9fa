"""Curve: honest scores by size; and the keep-up test of two sets by the losses of their rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.methods.search.search_data import SearchData, averaged
from chaff.models.protocols import Model
from chaff.results.score import corrected_error
from chaff.results.trail import Trail
from chaff.stats.paired_loss import KeepUp, judge_keep_up, mean_difference, spread_at

if TYPE_CHECKING:
    import pandas as pd

ALLOWANCE = 0.05  # δ of the keep-up test, as a share of what the full set gains over nothing


@dataclass(frozen=True)
class SizeCurve:
    """One lens: for every size the search was rerun inside each training fold and its set scored on the test rows."""

    label: str
    model: Model
    sizes: tuple[int, ...]
    """Ascending; 0 and the full set among them."""
    values: Floats
    """float64 (sizes, splits), in the metric's own units."""
    losses: Sequence[Floats]
    """A table of float64 (repeats, rows) a size: NaN where a row is not tested."""
    mean_losses: Floats
    """float64 (sizes, splits)."""
    sets: tuple[frozenset[str], ...]
    """The set of each size from the search on all training rows."""
    inside: tuple[tuple[frozenset[str], ...], ...] = field(repr=False)
    """Per split, the set of each size that was searched on its training rows."""
    trail: Trail | None = field(repr=False, default=None)
    """Every move of the search on all training rows, where a strategy walked."""

    def errors(self, data: SearchData) -> Floats:
        """Standard error of each size's score over the splits, float64 (sizes,)."""
        return np.array([corrected_error(x, data.folds.test_share) for x in self.values])

    def frame(self, data: SearchData) -> pd.DataFrame:
        """One row a size: score, score_se (of the mean over splits), which columns come and go against the size before."""
        import pandas as pd

        rows, errors = [], self.errors(data)
        before: frozenset[str] = frozenset()
        for k, size in enumerate(self.sizes):
            here = self.sets[k]
            rows.append(
                {
                    "size": size,
                    "score": float(self.values[k].mean()),
                    "score_se": float(errors[k]),
                    "comes": tuple(sorted(here - before)),
                    "goes": tuple(sorted(before - here)),
                }
            )
            before = here
        return pd.DataFrame(rows).set_index("size")


def keep_up_of(small: Floats, large: Floats, data: SearchData, use: Ints | None = None, inflation: float = 1.0) -> KeepUp:
    """The keep-up test of row losses, float64 (rows,), NaN where a row is not tested."""
    none = rows_of(data.none.losses[0], data, use)
    seen = np.flatnonzero(~np.isnan(small) & ~np.isnan(large))
    units = data.units.take(seen)
    w = units.weights
    gain = float(np.average(none[seen] - large[seen], weights=w)) if seen.size else 0.0
    d, allowance = small[seen] - large[seen], ALLOWANCE * max(gain, 0.0)
    difference, plain = units.mean(d, inflation), mean_difference(d, w)
    contrast = units.mean(d - ALLOWANCE * (none[seen] - large[seen]), inflation) if gain > 0 else None
    effect = (difference.se / plain.se) ** 2 if plain.se > 0 else 1.0
    spread = spread_at(allowance, _curvature(data, large[seen], w), seen.size, effect)
    return judge_keep_up(difference, allowance, seen.size, spread, contrast=contrast)


def _curvature(data: SearchData, loss: Floats, w: Floats | None) -> float:
    """See `spread_at`; 0 for losses whose variance does not go with their mean."""
    if data.row_metric.name == "log_loss":
        return 2.0
    squared = data.row_metric.of_errors is not None
    return 4.0 * float(np.average(loss, weights=w)) / data.table.targets.shape[1] if squared and loss.size else 0.0


def rows_of(losses: Floats, data: SearchData, use: Ints | None) -> Floats:
    """float64 (rows,): (repeats, rows) averaged over the repeats, of the chosen splits only."""
    if use is None or len(use) == len(data.splits):
        return averaged(losses)
    subset = np.full(losses.shape, np.nan)
    for k in use:
        repeat, rows = data.test_rows[k]
        subset[repeat, rows] = losses[repeat, rows]
    return averaged(subset)
