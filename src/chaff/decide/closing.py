"""Closing: the full and the kept set under the same models, on the same folds and on the holdout."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from chaff.arrays import Ints
from chaff.evaluate.scorer import SubsetScorer
from chaff.evaluate.setting import Setting
from chaff.folds import one_split
from chaff.metrics import METRICS, Metric
from chaff.models.protocols import Model
from chaff.results.score import Difference, Score, paired_difference
from chaff.table.table import Table


@dataclass(frozen=True)
class Column:
    """One column of the closing table: a model on folds or holdout, for the full set, the kept one and none."""

    model: str
    metric: Metric
    where: str
    """"folds" or "holdout"."""
    full: Score
    kept: Score
    none: float
    """What predicting the training mean (or the training class shares) scores."""

    @property
    def gap(self) -> Difference:
        """Kept less full, paired over folds; its standard error is NaN on the holdout."""
        return paired_difference(self.kept.values, self.full.values, self.kept.test_share)


@dataclass(frozen=True)
class Closing:
    """What the selection costs or gains."""

    full: tuple[str, ...]
    kept: tuple[str, ...]
    columns: tuple[Column, ...]
    folds: str
    """In words."""
    holdout_rows: int

    def on(self, where: str) -> tuple[Column, ...]:
        return tuple(c for c in self.columns if c.where == where)


def close(
    table: Table, train: Table, held: Ints, rows: Ints, full: Sequence[str], kept: Sequence[str], setting: Setting, models: Sequence[Model]
) -> Closing:
    """Score both sets with each model on the run's folds, and once on the holdout.

    Parameters
    ----------
    table, train : Table
        All rows, and the training rows.
    held, rows : int64
        Holdout and training rows as positions in `table`.
    """
    columns: list[Column] = []
    for model in models:
        scorer = setting.scorer(train.with_features(tuple(full)), model)
        columns += _columns(scorer, full, kept, "folds", [scorer.metric])
    if held.size:
        split = one_split(table, rows, held)
        for model in models:
            scorer = SubsetScorer(table.with_features(tuple(full)), model, setting.metric_of(model), split, setting.work)
            columns += _columns(scorer, full, kept, "holdout", None)
    return Closing(tuple(full), tuple(kept), tuple(columns), setting.folds.how, int(held.size))


def _columns(scorer: SubsetScorer, full: Sequence[str], kept: Sequence[str], where: str, only: list[Metric] | None) -> list[Column]:
    a, b, none = scorer.many([full, kept, []])
    metrics = only or [scorer.metric, *(METRICS[m] for m in a.also if m != scorer.metric.name)]
    label = scorer.model.label
    return [Column(label, m, where, a.under(m.name), b.under(m.name), float(none.under(m.name).values.mean())) for m in metrics]
