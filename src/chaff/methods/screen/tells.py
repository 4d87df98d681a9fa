"""Does a cell's absence, or its rare value, tell about the target? Asked before a column is dropped for it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.methods.screen.facts import Facts
from chaff.stats.adjust import holm
from chaff.stats.information import chi_square
from chaff.stats.ranks import average_ranks, rank_sum
from chaff.stats.score_test import score_p
from chaff.table.table import Table

if TYPE_CHECKING:
    import pandas as pd


def tells(table: Table, facts: Sequence[Facts], p_limit: float, least_effect: float) -> pd.DataFrame:
    """absence_p, absence_effect, absence_tells, absence_words and the same for `rare`, one row a feature.

    Rank-sum test with Cliff's delta for numbers, chi-square with Cramér's V for classes, Holm-adjusted over the columns; where
    groups, an order or weights are declared, score tests that count what is independent.
    """
    import pandas as pd

    frame = pd.DataFrame(index=pd.Index([f.name for f in facts], name="feature"))
    missing = np.array([f.column.missing for f in facts]).reshape(len(facts), len(table))
    rare = np.array([f.rare for f in facts]).reshape(len(facts), len(table))
    for key, flags, words in (("absence", missing, "missing"), ("rare", rare, "rare")):
        p, effect = _relation(table, flags)
        p = _as_witnesses_say(table, flags, p)
        adjusted = holm(p)
        frame[f"{key}_p"], frame[f"{key}_effect"] = p, effect
        frame[f"{key}_tells"] = (adjusted < p_limit) & (np.abs(effect) >= least_effect)
        frame[f"{key}_words"] = [_words(table, f, words) for f in flags]
    return frame


def _relation(table: Table, flags: Flags) -> tuple[Any, Any]:
    """(p, effect size) of each flag against the target; NaN for flags that are all or never set."""
    varies = flags.any(1) & ~flags.all(1)
    p, effect = np.full(len(flags), np.nan), np.full(len(flags), np.nan)
    if not varies.any():
        return p, effect
    some = flags[varies]
    if table.target.task == "regression":
        result = rank_sum(table.y, some)
        p[varies], effect[varies] = result.p, result.cliffs_delta
        return p, effect
    classes = (table.y[:, None] == np.arange(len(table.target.classes))).astype(float)
    inside = some.astype(float) @ classes
    chi = chi_square(np.stack([inside, classes.sum(0) - inside], axis=1))
    p[varies], effect[varies] = chi.p, chi.cramers_v
    return p, effect


def _as_witnesses_say(table: Table, flags: Flags, p: Floats) -> Floats:
    """The p-values that the groups, the order or the weights of the rows leave."""
    units = table.units
    if units is None:
        return p
    target = average_ranks(table.y)[None] if table.target.task == "regression" else table.targets.T
    tried = [score_p(f[None].astype(float), target, units) if known == known else known for f, known in zip(flags, p, strict=True)]
    return np.array(tried, float)


def _words(table: Table, flag: Flags, word: str) -> str:
    if not flag.any() or flag.all():
        return ""
    if table.target.task == "regression":
        gap = float(np.median(table.y[flag]) - np.median(table.y[~flag]))
        unit = f" {table.target.unit}" if table.target.unit else ""
        return f"the {word} rows' {table.target.name} is {abs(gap):.3g}{unit} {'higher' if gap > 0 else 'lower'}"
    shares = [np.bincount(table.y[f].astype(int), minlength=len(table.target.classes)) / f.sum() for f in (flag, ~flag)]
    k = int(np.argmax(np.abs(shares[0] - shares[1])))
    name = table.target.classes[k]
    return f"{shares[0][k]:.0%} of the {word} rows are '{name}' against {shares[1][k]:.0%} of the others"
