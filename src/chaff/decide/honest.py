"""Honest: the score of the whole plan on rows that no choice of it has seen, with its interval, and the keep-up test."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.methods.search.curve import keep_up_of
from chaff.methods.search.honest_losses import HonestLosses
from chaff.methods.search.nested_error import NestedError
from chaff.methods.search.search_data import SearchData, averaged
from chaff.metrics import METRICS
from chaff.results.digits import score
from chaff.results.plain import plain
from chaff.results.score import corrected_error
from chaff.stats.paired_loss import KeepUp
from chaff.stats.pooled_metric import Pooled, pooled
from chaff.stats.tail_probabilities import t_quantile
from chaff.visible import Shown

LEVEL = 0.90


@dataclass(frozen=True, repr=False)
class Honest(Shown):
    """What the kept set scores on rows that neither its search nor its choice has seen."""

    mean: float
    se: float
    """By nested cross-validation, what all rows would still teach, and by how much the folds' own choices moved the score."""
    interval: tuple[float, float]
    """90 %."""
    metric: str
    model: str
    """The deciding model."""
    seen: float
    """What the search itself saw of the kept set."""
    how: str
    """In words."""
    rows: int
    keep_up: KeepUp = field(repr=False)
    """Kept against full."""
    full: tuple[float, float] = field(repr=False, default=(float("nan"), float("nan")))
    """(mean, se) of the full set on the same rows."""
    nothing: float = field(repr=False, default=float("nan"))
    inflation: float = field(repr=False, default=1.0)
    """By how much the error is wider than rows alone would say."""
    slope: float = field(repr=False, default=float("nan"))
    """Change of the score for a unit of mean loss."""

    @property
    def optimism(self) -> float:
        """By how much the score that the search saw is better than the honest one."""
        return (self.seen - self.mean) * (1.0 if METRICS[self.metric].higher_is_better else -1.0)

    def __str__(self) -> str:
        low, high = self.interval
        label = METRICS[self.metric].label
        return f"honest {label} {score(self.mean)} (90 %: {score(low)} to {score(high)}) of {self.model}, {self.how}"

    def as_plain(self) -> dict[str, Any]:
        return {
            "mean": plain(self.mean),
            "se": plain(self.se),
            "interval": [plain(x) for x in self.interval],
            "metric": self.metric,
            "model": self.model,
            "seen": plain(self.seen),
            "optimism": plain(self.optimism),
            "how": self.how,
            "rows": self.rows,
            "keep_up": keep_up_as_plain(self.keep_up),
        }


def keep_up_as_plain(k: KeepUp) -> dict[str, Any]:
    d = k.difference
    return {
        "answer": k.answer,
        "difference": plain(d.mean),
        "se": plain(d.se),
        "allowance": plain(k.allowance),
        "rows_to_tell": k.rows_to_tell,
    }


def honest_of(honest_losses: HonestLosses, data: SearchData, error: NestedError, model: str, seen: float, how: str) -> Honest:
    """The honest score from row losses.

    Parameters
    ----------
    error : NestedError
        The error of rows is multiplied by its inflation; what all rows would still teach makes the interval wider, since folds
        learn on four fifths of them, and so does what the folds' own choices moved the score from the one of the kept set.
    seen : float
        What the search saw.
    """
    kept, full = (averaged(x) for x in (honest_losses.kept, honest_losses.full))
    own = scored(data, honest_losses.kept, honest_losses.values, error.inflation)
    whole = scored(data, honest_losses.full, honest_losses.full_values, error.inflation)
    taught, moved = error.learning * np.nan_to_num(own.slope), np.nan_to_num(seen - own.score)
    se = float(np.sqrt(own.se**2 + taught**2 + moved**2))
    reach = t_quantile(0.5 + LEVEL / 2, max(own.df, 1.0)) * se
    return Honest(
        own.score,
        se,
        (own.score - reach, own.score + reach),
        data.metric.name,
        model,
        seen,
        how,
        int((~np.isnan(kept)).sum()),
        keep_up_of(kept, full, data, inflation=error.inflation),
        (whole.score, whole.se),
        scored(data, honest_losses.none, data.none.values[0], 1.0).score,
        error.inflation,
        own.slope,
    )


def scored(data: SearchData, losses: Floats, values: Floats, inflation: float) -> Pooled:
    """One score from losses (repeats, rows); from the values of the splits where a row has no loss under the metric."""
    metric = data.metric
    loss, none = averaged(losses), averaged(data.none.losses[0])
    rows = np.flatnonzero(~np.isnan(loss) & ~np.isnan(none))
    units = data.units.take(rows)
    if metric.row_loss is None or metric.of_losses is None:
        d = units.mean(loss[rows])
        seen = values[~np.isnan(values)]
        return Pooled(float(seen.mean()) if seen.size else float("nan"), corrected_error(values, data.folds.test_share), d.df, float("nan"))
    return pooled(metric.of_losses, loss[rows], none[rows], units, inflation)
