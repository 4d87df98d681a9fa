"""Does a cell's absence, or its rare value, tell about the target? Asked before a column is dropped for it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.methods.screen.facts import Facts
from chaff.stats.information import chi_square
from chaff.stats.p_adjustment import holm
from chaff.stats.ranks import average_ranks, rank_sum
from chaff.stats.score_test import score_p
from chaff.table.table import Table

if TYPE_CHECKING:
    import pandas as pd


def missingness_signals(table: Table, facts: Sequence[Facts], p_limit: float, least_effect: float) -> pd.DataFrame:
    """absence_p, absence_effect, absence_tells, absence_words and the same for `rare`, one row a feature.

    Rank-sum test with Cliff's delta for numbers, chi-square with Cramér's V for classes, Holm-adjusted over the columns; where
    groups, an order or weights are declared, score tests that count what is independent.
    """
    import pandas as pd

    frame = pd.DataFrame(index=pd.Index([f.name for f in facts], name="feature"))
    for key, flag_of, words in (("absence", _missing, "missing"), ("rare", _rare, "rare")):
        if not table.has_target:
            frame[[f"{key}_p", f"{key}_effect", f"{key}_tells", f"{key}_words"]] = [float("nan"), float("nan"), False, ""]
            continue
        flags = Flagged(facts, flag_of)
        p, effect = _relation(table, flags)
        p = _as_witnesses_say(table, flags, p)
        adjusted = holm(p)
        frame[f"{key}_p"], frame[f"{key}_effect"] = p, effect
        frame[f"{key}_tells"] = (adjusted < p_limit) & (np.abs(effect) >= least_effect)
        frame[f"{key}_words"] = [_words(table, f, words) for f in flags]
    return frame


@dataclass(frozen=True)
class Flagged:
    """One flag a row for each of some columns, made when it is looked at: all together would be a byte a cell."""

    facts: Sequence[Facts]
    flag_of: Callable[[Facts], Flags]

    def __len__(self) -> int:
        return len(self.facts)

    def __iter__(self) -> Iterator[Flags]:
        return (self.flag_of(f) for f in self.facts)

    def subset(self, which: Flags) -> Flagged:
        return Flagged([f for f, wanted in zip(self.facts, which, strict=True) if wanted], self.flag_of)


def _missing(facts: Facts) -> Flags:
    return facts.column.missing


def _rare(facts: Facts) -> Flags:
    return facts.rare


def _relation(table: Table, flags: Flagged) -> tuple[Any, Any]:
    """(p, effect size) of each flag against the target; NaN for flags that are all or never set."""
    varies = np.array([f.any() and not f.all() for f in flags], bool)
    p, effect = np.full(len(flags), np.nan), np.full(len(flags), np.nan)
    if not varies.any():
        return p, effect
    subset = flags.subset(varies)
    if table.target.task == "regression":
        result = rank_sum(table.y, subset)
        p[varies], effect[varies] = result.p, result.cliffs_delta
        return p, effect
    classes = (table.y[:, None] == np.arange(len(table.target.classes))).astype(float)
    inside = np.array([f.astype(float) @ classes for f in subset])
    chi = chi_square(np.stack([inside, classes.sum(0) - inside], axis=1))
    p[varies], effect[varies] = chi.p, chi.cramers_v
    return p, effect


def _as_witnesses_say(table: Table, flags: Flagged, p: Floats) -> Floats:
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
        return (
            f"mean {table.target.name} is {abs(gap):.3g}{unit} {'higher' if gap > 0 else 'lower'} where "
            f"{'it is missing' if word == 'missing' else 'the value is rare'}"
        )
    shares = [np.bincount(table.y[f].astype(int), minlength=len(table.target.classes)) / f.sum() for f in (flag, ~flag)]
    k = int(np.argmax(np.abs(shares[0] - shares[1])))
    name = table.target.classes[k]
    return f"{shares[0][k]:.0%} of the {word} rows are '{name}', {shares[1][k]:.0%} of the others"
