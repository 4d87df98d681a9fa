"""Setting and Stage: what a way of judging features is given, and what it has to give back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, Protocol

import numpy as np

from chaff.evaluate.scorer import SubsetScorer
from chaff.folds import Folds, make_folds
from chaff.models.least_squares import Ridge
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.results.trail import SizeRule, Trail
from chaff.results.verdict import Verdict
from chaff.table.table import Table
from chaff.work import Work


@dataclass(frozen=True)
class Pin:
    """A person's own decision on a feature, with a reason."""

    feature: str
    verdict: Literal["keep", "drop"]
    because: str


@dataclass(frozen=True)
class Setting:
    """What all stages of a run share.

    `earlier` holds the results of the stages before, by the stage's name.
    """

    folds: Folds
    model: Model = field(default_factory=Ridge)
    metric: str | None = None
    rule: SizeRule = field(default_factory=SizeRule)
    pins: Mapping[str, Pin] = field(default_factory=dict)
    earlier: Mapping[str, Any] = field(default_factory=dict)
    work: Work = field(default_factory=Work)

    @classmethod
    def of(cls, table: Table, folds: int = 5, repeats: int = 1, work: Work | None = None, **fields: Any) -> Setting:
        """A setting of its own for one stage on one table."""
        work = work or Work()
        return cls(make_folds(table, folds, repeats, work), work=work, **fields)

    @classmethod
    def unfolded(cls, table: Table, work: Work | None = None, **fields: Any) -> Setting:
        """A setting for what scores nothing over folds, so that no table is too small or too grouped for it."""
        return cls(Folds((np.zeros(len(table), np.int64),), (), "no folds"), work=work or Work(), **fields)

    def scorer(self, table: Table, model: Model | None = None, metric: str | None = None) -> SubsetScorer:
        """A scorer on the run's folds."""
        return SubsetScorer(table, model or self.model, metric, self.folds, self.work)

    def kept_by_pin(self, feature: str) -> bool:
        pin = self.pins.get(feature)
        return pin is not None and pin.verdict == "keep"


class Stage(Protocol):
    """A frozen dataclass: its fields are its keyword arguments, its TOML keys and its command options."""

    use: ClassVar[str]
    """Its name in a plan and on the command line."""
    loosen: ClassVar[str]
    """What to change when it leaves no feature."""

    def judge(self, table: Table, setting: Setting, work: Work) -> Findings | Trail: ...
    def verdicts(self, result: Any, setting: Setting) -> tuple[Verdict, ...]: ...
