"""What leaving out repeated features would cost: honest scores with and without them, inside folds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from chaff.errors import ChaffError
from chaff.evaluate.setting import Setting
from chaff.methods.search.additions import split_losses
from chaff.methods.search.forest_lens import ForestLens
from chaff.methods.search.search_data import SearchData, averaged
from chaff.metrics import METRICS
from chaff.models.least_squares import Ridge
from chaff.models.protocols import Model
from chaff.results.score import corrected_error
from chaff.table.table import Table

SURE = 2.576
TREES = 40
ALLOWED = 0.02  # of what all features gain over knowing nothing
RIDGE = Ridge(0.01)


@dataclass(frozen=True)
class Cost:
    """R² (of the class indicators, with classes) that is lost without some features, through one lens."""

    lens: str
    lost: float
    se: float
    allowed: float

    @property
    def too_much(self) -> bool:
        """Over the allowance, 2 % of what all features gain, and more than its error says by chance: a forest's score moves a
        little with every column."""
        return self.lost > self.allowed and self.lost > SURE * self.se


def single_costs(table: Table, features: Sequence[str], setting: Setting) -> dict[str, Cost]:
    """Of each feature by itself through the linear lens, all others staying: in closed form."""
    if not setting.folds.splits or not features:
        return {}
    try:
        walk = setting.scorer(table, RIDGE, "r2").walk(table.features)
        whole = walk.score
        changes = walk.changes(features)
    except ChaffError:
        return {}
    share = setting.folds.test_share
    allowed = ALLOWED * max(whole.mean, 0.0)
    return {
        f: Cost("ridge", float((whole.values - v).mean()), corrected_error(whole.values - v, share), allowed)
        for f, v in zip(changes.names, changes.by_fold, strict=True)
    }


def total_costs(table: Table, gone: Sequence[str], setting: Setting) -> list[Cost]:
    """Of some features together, through a line and through a forest."""
    if not setting.folds.splits or not gone:
        return []
    left = frozenset(table.features) - set(gone)
    out = []
    for label, model in (("ridge", RIDGE), ("forest", replace(ForestLens().grown(len(table)), trees=TREES))):
        try:
            out.append(_cost(label, model, table, left, setting))
        except ChaffError:
            continue
    return out


def _cost(label: str, model: Model, table: Table, left: frozenset[str], setting: Setting) -> Cost:
    data = SearchData.of(table, replace(setting, before=None, metric="r2"), [model])
    none = averaged(data.none.losses[0])
    with_all, without = (averaged(x) for x in split_losses([frozenset(table.features), left], model, data))
    rows = data.tested
    base = float(np.mean(none[rows])) or 1.0
    d = (without - with_all)[rows] / base
    gain = float(np.mean((none - with_all)[rows])) / base
    return Cost(label, float(d.mean()), float(d.std(ddof=1) / np.sqrt(d.size)), ALLOWED * max(gain, 0.0))


def cost_text(costs: Sequence[Cost]) -> str:
    """`R² 0.003 through ridge, 0.01 through forest`."""
    label = METRICS["r2"].label
    return ", ".join(f"{label} {max(c.lost, 0.0):.2g} with {c.lens}" for c in costs)
