"""Correlation: pairs of number columns that say the same, and which of each pair goes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any, ClassVar

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.overlap.overlap_data import OverlapData
from chaff.methods.repeats import PAIR_LIMIT, Priority, stand_for, why_stays
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep
from chaff.table.table import Table


@dataclass(frozen=True)
class Correlation:
    """Of each pair of number features with |r| over the limit, drop the one of lower priority.

    Parameters
    ----------
    limit : float
        |Pearson r| above which two features are near-duplicates. With missing values: over the rows where both are present.

    Returns
    -------
    Findings
        One row a feature: strongest_r, partner (the feature it was dropped for), why, verdict.

    Raises
    ------
    UsageError, DataError

    Notes
    -----
    Priority: pinned in, then the fewest missing values (in per cent), lowest cost, highest relevance, first by name; between exact
    duplicates the reason says that the choice is arbitrary. The feature of the highest priority is kept and its near-duplicates
    are dropped, then the next that is left, so no feature is dropped for a partner that is dropped itself.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.prune_correlations(chaff.demo.table(rows=300))
    >>> found.frame.loc["test_weight_lb_bu", "partner"]
    'test_weight_kg_hl'
    """

    limit: float = PAIR_LIMIT
    name: str = ""

    use: ClassVar[str] = "correlation"
    without_target: ClassVar[bool] = True
    hint_if_empty: ClassVar[str] = "raise its limit, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if not 0 < self.limit <= 1:
            raise UsageError(f"correlation limit must be above 0 and at most 1, not {self.limit}")

    def uses_target(self) -> bool:
        """Who of a pair goes is told by relevance."""
        return True

    def judge(self, table: Table, setting: Setting) -> Findings:
        return self.cut(OverlapData.of(table, setting), table.features)

    def cut(self, data: OverlapData, features: Sequence[str]) -> Findings:
        """The cut on data that is laid already; a row for every one of these features."""
        import pandas as pd

        numbers = data.numbers()
        columns = data.columns_of(numbers)
        r = data.correlations[np.ix_(columns, columns)]
        went = self._prune(r, numbers, data.priorities)
        index = pd.Index(features, name="feature")
        frame = pd.DataFrame(index=index)
        strongest = np.abs(np.where(np.eye(len(numbers), dtype=bool), 0.0, np.nan_to_num(r)))
        frame["strongest_r"] = pd.Series(strongest.max(1, initial=0.0), index=numbers).reindex(index)
        for key in ("partner", "pearson_r", "why"):
            frame[key] = pd.Series({f: w[key] for f, w in went.items()}, dtype=object).reindex(index)
        more = {"matrix": pd.DataFrame(r, index=numbers, columns=numbers)}
        return Findings(self.use, frame, "strongest_r", {"strongest_r": "nearest"}, asdict(self), (), more, "worst")

    def _prune(self, r: Floats, names: list[str], priorities: dict[str, Priority]) -> dict[str, dict[str, Any]]:
        """Who goes, for whom and why."""
        place = {f: k for k, f in enumerate(names)}
        return {
            loser: {
                "partner": winner,
                "pearson_r": float(r[place[winner], place[loser]]),
                "why": why_stays(priorities[winner], priorities[loser]),
            }
            for loser, winner in stand_for(r, names, self.limit, priorities).items()
        }

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        return tuple(self._verdict(str(f), row) for f, row in result.frame.iterrows())

    def _verdict(self, feature: str, row: Any) -> Verdict:
        if isinstance(row["partner"], str):
            reason = f"near-duplicate of {row['partner']}, which is kept: {row['why']}"
            return drop(feature, self.use, f"pearson_r {row['pearson_r']:.3g}", f"{self.limit:g}", reason)
        figure = "" if np.isnan(row["strongest_r"]) else f"strongest_r {row['strongest_r']:.3g}"
        return keep(feature, self.use, figure, f"{self.limit:g}")
