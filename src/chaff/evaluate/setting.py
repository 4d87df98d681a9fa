"""Setting: what all stages of a run share."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Ints
from chaff.folds import Folds, make_folds
from chaff.metrics import METRICS
from chaff.models.protocols import Model
from chaff.results.verdict import Pin
from chaff.table.table import Table
from chaff.work import Work

if TYPE_CHECKING:
    from chaff.evaluate.scorer import SubsetScorer


@dataclass(frozen=True)
class Setting:
    """What all stages of a run share: folds, model, metric, pins, and what the stages before have found."""

    folds: Folds
    model: Model | None = None
    """The model that will be used in the end, where the user named it."""
    metric: str | None = None
    pins: Mapping[str, Pin] = field(default_factory=dict)
    earlier: Mapping[str, Any] = field(default_factory=dict)
    """Results of the stages before, by what they are (`use`); the latest where there are two of a kind."""
    before: Callable[[Ints], tuple[str, ...]] | None = None
    """Row positions → the features that the stages before leave when they are rerun on those rows only; None where none of
    them looked at the target."""
    work: Work = field(default_factory=Work)
    whole: Table | None = field(default=None, repr=False)
    """Every training row, where the stages see a sample of them: for what is a sum over rows."""
    scorers: dict[Hashable, SubsetScorer] = field(default_factory=dict, compare=False, repr=False)
    """One scorer per (features, model, metric), so that nothing is prepared or scored twice in a run."""

    @classmethod
    def of(cls, table: Table, folds: int = 5, repeats: int = 1, work: Work | None = None, **fields: Any) -> Setting:
        """A setting of its own for one stage on one table."""
        work = work or Work()
        return cls(make_folds(table, folds, repeats, work), work=work, **fields)

    @classmethod
    def unfolded(cls, table: Table, work: Work | None = None, **fields: Any) -> Setting:
        """A setting for what scores nothing over folds, so that no table is too small or too grouped for it."""
        return cls(Folds((np.zeros(len(table), np.int64),), (), "no folds"), work=work or Work(), **fields)

    def all_rows(self, table: Table) -> Table:
        """The table with every training row, for what is a sum over rows."""
        whole = self.whole or table.drawn_from
        return table if whole is None else whole.with_features(table.features)

    def scorer(self, table: Table, model: Model | None = None, metric: str | None = None) -> SubsetScorer:
        """A scorer on the run's folds, the same one at each call; the run's metric where the model can serve it."""
        from chaff.evaluate.scorer import SubsetScorer
        from chaff.models.least_squares import Ridge

        model = model or self.model or Ridge()
        metric = metric or self.metric_of(model)
        key = (table.features, _key(model), metric)
        known = self.scorers.get(key)
        if known is not None and _same_rows(known.table, table):
            return known
        made = SubsetScorer(table, model, metric, self.folds, self.work)
        return self.scorers.setdefault(key, made) if known is None else made

    def metric_of(self, model: Model) -> str | None:
        """The run's metric where the model gives what it needs; None, the model's default one, otherwise."""
        return self.metric if self.metric is not None and METRICS[self.metric].needs in model.gives else None

    def kept_by_pin(self, feature: str) -> bool:
        pin = self.pins.get(feature)
        return pin is not None and pin.verdict == "keep"


def _key(model: Model) -> Hashable:
    """A user's own model need not be hashable: it then stands for itself only."""
    return model if isinstance(model, Hashable) and _hashes(model) else id(model)


def _hashes(thing: Hashable) -> bool:
    try:
        hash(thing)
    except TypeError:
        return False
    return True


def _same_rows(a: Table, b: Table) -> bool:
    return a.source is b.source and a.rows is b.rows and a.y_all is b.y_all and a.weights_all is b.weights_all
