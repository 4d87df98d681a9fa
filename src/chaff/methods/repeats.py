"""Repeats: number columns that say the same, and which of them stays."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.evaluate.setting import Setting
from chaff.methods.relevance.stage import effect_sizes
from chaff.results.verdict import Pin
from chaff.stats.tolerances import NEAR
from chaff.table.moments import table_moments
from chaff.table.table import Table
from chaff.work import Work

PAIR_LIMIT = 0.95  # |r| from which two columns say the same
MOST_COLUMNS, MOST_ROWS = 1_000, 20_000  # that a search looks for repeats among


@dataclass(frozen=True)
class Priority:
    """One feature's claim to stay."""

    pinned: bool
    relevance: float
    missing: float
    cost: float
    name: str
    """Breaks the last tie, so that the order of the columns decides nothing."""

    def going(self) -> tuple[float, float, float, float, str]:
        """Sorts so that what should go comes last."""
        return (-float(self.pinned), -round(self.relevance / NEAR) * NEAR, self.missing, self.cost, self.name)

    def repeating(self) -> tuple[float, float, float, float, str]:
        """The same among repeats, which are about equally relevant: gaps (in per cent) and costs first."""
        return (-float(self.pinned), round(self.missing, 2), self.cost, -round(self.relevance / NEAR) * NEAR, self.name)


def priorities(table: Table, setting: Setting) -> dict[str, Priority]:
    effects = effect_sizes(table, setting, table.features)
    return {
        f: Priority(setting.kept_by_pin(f), effects[f], float(table.column(f).missing.mean()), table.costs.get(f, 0.0), f)
        for f in table.features
    }


def why_stays(winner: Priority, loser: Priority) -> str:
    """The first difference of `repeating` that decided, in words."""
    if winner.pinned and not loser.pinned:
        return "it is pinned"
    first, second = winner.repeating(), loser.repeating()
    if first[1] != second[1]:
        return f"fewer missing values ({winner.missing:.1%} against {loser.missing:.1%})"
    if first[2] != second[2]:
        return f"cheaper ({winner.cost:g} against {loser.cost:g})"
    if first[3] != second[3]:
        digits = next((d for d in (3, 5) if f"{winner.relevance:.{d}g}" != f"{loser.relevance:.{d}g}"), 8)
        return f"more relevant ({winner.relevance:.{digits}g} against {loser.relevance:.{digits}g})"
    return "duplicates: the alphabetically first is kept"


def stand_for(r: Floats, names: Sequence[str], limit: float, priority_of: Mapping[str, Priority]) -> dict[str, str]:
    """Repeat → the column that stays for it. The strongest claim stays and its repeats go; then the next that is left.

    r : float64 (names, names).  limit : |r| over which two say the same.
    """
    place = {f: k for k, f in enumerate(names)}
    over = np.abs(np.nan_to_num(r)) > limit
    out: dict[str, str] = {}
    for winner in sorted(names, key=lambda f: priority_of[f].repeating()):
        if winner in out:
            continue
        for k in np.flatnonzero(over[place[winner]]).tolist():
            loser = names[k]
            if (
                loser == winner
                or loser in out
                or priority_of[loser].pinned
                or priority_of[loser].repeating() < priority_of[winner].repeating()
            ):
                continue
            out[loser] = winner
    return out


def repeats_in(train: Table, features: Sequence[str], pinned: frozenset[str]) -> dict[str, str]:
    """Repeat → the column that stays for it, among the number columns of some training rows; none looked for among very many."""
    numbers = [f for f in features if train.kind(f) in ("number", "binary")]
    if not 1 < len(numbers) <= MOST_COLUMNS:
        return {}
    subset = train.with_features(tuple(numbers))
    drawn = subset if len(subset) <= MOST_ROWS else subset.take(np.linspace(0, len(subset) - 1, MOST_ROWS).astype(np.int64))
    moments = table_moments(drawn, drawn.features, Work(workers=1))
    columns = moments.layout.select(drawn.features)[1]
    r = moments.correlations()[np.ix_(columns, columns)]
    over = np.abs(np.nan_to_num(r)) > PAIR_LIMIT
    np.fill_diagonal(over, False)
    where = np.flatnonzero(over.any(axis=0))
    able = [drawn.features[k] for k in where.tolist()]
    if not able:
        return {}
    pins = {f: Pin(f, "keep", "") for f in able if f in pinned}
    here = drawn.with_features(tuple(able))
    priority_of = priorities(here, Setting.unfolded(here, Work(workers=1), pins=pins))
    return stand_for(r[np.ix_(where, where)], able, PAIR_LIMIT, priority_of)
