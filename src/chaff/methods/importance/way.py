"""What a way of importance is asked and what it gives back, and the fits that all ways share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar, Protocol

import numpy as np

from chaff.arrays import Floats
from chaff.choices import Registry
from chaff.errors import ModelError
from chaff.evaluate.fitted import FittedEngine, PreparedSplit, named_failure
from chaff.evaluate.setting import Setting
from chaff.folds import Folds
from chaff.models.protocols import Fitted, HasRemarks, Model
from chaff.results.findings import Better, Findings
from chaff.results.score import corrected_error
from chaff.stats.p_adjustment import holm
from chaff.stats.tail_probabilities import t_quantile, t_upper
from chaff.table.table import Table
from chaff.work import Work, task

if TYPE_CHECKING:
    import pandas as pd

WAYS = Registry("chaff.methods.importance.ways", "way of importance")


class Way(Protocol):
    """A frozen dataclass; `says` tells in one sentence what it measures and when it misleads."""

    name: ClassVar[str]
    says: ClassVar[str]

    def measure(self, table: Table, model: Model, setting: Setting) -> Findings:
        """A row a feature: `importance`, `importance_sd` over folds, and what the way has of its own."""
        ...


def as_way(given: Any) -> Way:
    """A way from an object, its name, or a mapping of its name and settings."""
    made: Way = WAYS.make(given)
    return made


# What is asked for its order alone needs no test: no half-samples, one fit; three shuffles.
CHEAPLY: dict[str, Any] = {
    "coefficient": {"name": "coefficient", "resamples": 0, "over_folds": False},
    "permutation": {"name": "permutation", "shuffles": 3},
}


def as_order(given: Any) -> Way:
    """A way that is asked for its order: by its name alone it is taken as cheaply as it comes."""
    return as_way(CHEAPLY.get(given, given) if isinstance(given, str) else given)


@dataclass(frozen=True)
class FoldFit:
    """A model that has learned from one fold's training rows."""

    split: PreparedSplit
    fitted: Fitted
    work: Work


def prepared(table: Table, model: Model, setting: Setting) -> FittedEngine:
    """The splits, prepared for a model; those of the scorer where it has some."""
    engine = setting.scorer(table, model).engine
    if isinstance(engine, FittedEngine):
        return engine
    return FittedEngine(table, model, engine.metrics, setting.folds, setting.work)


def fits(table: Table, model: Model, setting: Setting, stage: str = "importance") -> list[FoldFit]:
    """The model fitted on the training rows of every fold."""
    engine = prepared(table, model, setting)
    named = [((s.repeat, s.test), p) for s, p in zip(setting.folds.splits, engine.splits, strict=True)]
    return setting.work.each(task(fit_fold, model, setting.work), named, stage)


def fit_fold(model: Model, work: Work, unit: tuple[tuple[int, int], PreparedSplit]) -> FoldFit:
    named, split = unit
    seed = replace(work, seed=work.key("importance", *named))
    with named_failure(model, split, split.train.features):
        return FoldFit(split, model.fit(split.train, seed), seed)


def need(fitted: Fitted, power: type, model: Model, what: str, who: str) -> Any:
    """The fitted model, if it has a power.

    Raises
    ------
    ModelError
        When it lacks it, with the models that have it.
    """
    if not isinstance(fitted, power):
        raise ModelError(f"{model.label} cannot say {what}; models that can: {who}")
    return fitted


def importance_findings(
    way: Way, by_fold: Floats, table: Table, folds: Folds, settings: Mapping[str, Any], notes: Sequence[str] = (),
    tested: bool = False, alpha: float = 0.05, extra: Mapping[str, Any] | None = None, better: Mapping[str, Better] | None = None,
    more: Mapping[str, pd.DataFrame] | None = None,
) -> Findings:  # fmt: skip
    """Findings from the importance of each feature in each fold, float64 (folds, features).

    With `tested` a one-sided p that the mean is above zero, its variance over folds corrected for the training rows that they
    share (Nadeau and Bengio, 2003), and Holm's adjustment.
    """
    import pandas as pd

    frame = pd.DataFrame(index=pd.Index(table.features, name="feature"))
    mean = by_fold.mean(0)
    frame["importance"] = mean
    frame["importance_sd"] = by_fold.std(0, ddof=1) if len(by_fold) > 1 else np.nan
    top = float(np.nanmax(np.maximum(mean, 0.0), initial=0.0))
    frame["scaled"] = np.maximum(mean, 0.0) / top if top > 0 else 0.0
    ways: dict[str, Better] = {"importance": "higher"}
    if tested and len(by_fold) > 1:
        error = np.array([corrected_error(v, folds.test_share) for v in by_fold.T])
        df = np.full(len(mean), len(by_fold) - 1.0)
        half = t_quantile(0.975, len(by_fold) - 1) * error
        frame["low"], frame["high"] = mean - half, mean + half
        p = np.where(error > 0, t_upper(mean / np.where(error > 0, error, 1.0), df), np.where(mean > 0, 0.0, 1.0))
        frame["p"], frame["q"] = p, holm(p)
        frame["significant"] = frame["q"] < alpha
        ways |= {"p": "lower", "q": "lower"}
    for name, values in (extra or {}).items():
        frame[name] = values
    by = {f"fold {k}": v for k, v in enumerate(by_fold, 1)}
    frames = {"by_fold": pd.DataFrame(by, index=frame.index), **(more or {})}
    return Findings("importance", frame, "importance", {**ways, **(better or {})}, settings, (way.says, *notes), frames)


def remarks_of(fitted: Any) -> tuple[str, ...]:
    return fitted.remarks() if isinstance(fitted, HasRemarks) else ()
