"""What a filter statistic and a family of them are: a file in `families/` declares both, and the catalogue finds it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from chaff.methods.relevance.relevance_data import Contrast, RelevanceData
from chaff.results.findings import Better

if TYPE_CHECKING:
    import pandas as pd

Pair = tuple[str, str]
"""(kind of the feature, task of the target)."""
NN, BN, CN = ("number", "regression"), ("binary", "regression"), ("category", "regression")
NC, BC, CC = ("number", "classification"), ("binary", "classification"), ("category", "classification")
EVERY = (NN, BN, CN, NC, BC, CC)
RANKS = "ranks count rows, and what a weighted rank means is not settled"


@dataclass(frozen=True)
class FilterStatistic:
    """One filter statistic."""

    name: str
    label: str
    fits: tuple[Pair, ...]
    better: Better
    source: str
    how: str = ""
    """A few words for the page of statistics."""
    place: int = 1000
    """Where it stands among the others; by name from 1000 on."""
    why_no_weights: str = ""
    """Why it is refused with row weights; empty where they are defined."""
    by_request: bool = False
    """Whether it looks at other features too; only computed when asked for."""
    two_classes: bool = False
    tests: bool = True
    """Whether theory gives a p-value."""
    shuffles: bool = False
    """Whether `shuffles` may give it a permutation p, where theory gives none."""
    companions: tuple[str, ...] = ()
    """Columns that come with it, beside those that begin with its name."""
    aliases: tuple[str, ...] = ()
    """Further names under which it may be asked for: companions that features can be ranked by."""
    tested: str = ""
    """The column whose p it is, where that is not the statistic's own name."""
    contrasts: Mapping[Pair, Callable[[RelevanceData, str], Contrast]] = field(default_factory=dict)
    """What its p is read from where groups, an order or weights are declared; blank there for a pair that has none."""
    class_by_class: bool = False
    """Whether it is that of the class which the feature sets apart best: its p is then the best of several."""
    plain_bounds: tuple[str, ...] = ()
    """Columns of bounds that hold for independent rows only."""

    @property
    def p_column(self) -> str:
        return f"{self.tested or self.name}_p"

    def fits_classes(self, count: int) -> bool:
        return not (self.two_classes and count != 2)


@dataclass(frozen=True)
class Measured:
    """What a family found: a column a name, one entry a feature, and further frames for `findings.more`."""

    columns: Mapping[str, Any]
    frames: Mapping[str, pd.DataFrame] = field(default_factory=dict)


@dataclass(frozen=True)
class Family:
    """Statistics that come from one reading of the data.

    `measure(view, features, wanted)` takes the features of the kinds that it fits and the names that are wanted of its
    statistics; it returns columns of one entry a feature, by name, `rows` among them.
    """

    measure: Callable[[RelevanceData, list[str], set[str]], Mapping[str, Any] | Measured]
    fits: tuple[Pair, ...]
    statistics: tuple[str, ...]
