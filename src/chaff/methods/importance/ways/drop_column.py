"""Drop column: the model fitted again without a column, on the same folds."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from chaff.evaluate.setting import Setting
from chaff.evaluate.walk import PlainWalk
from chaff.methods.importance.way import importance_findings
from chaff.metrics import METRICS
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.table.table import Table


@dataclass(frozen=True)
class DropColumn:
    """Loss of score when the model is fitted without the feature.

    Parameters
    ----------
    alpha : float
        A feature is beyond chance when its Holm-adjusted one-sided p is below this.

    Notes
    -----
    Paired on the same folds, variance corrected for the training rows that they share. Least squares and ridge are not fitted
    again: the score without a column has a closed form. Source: corrected variance: Nadeau and Bengio, 2003.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> chaff.importance(lots, "ridge", by="drop column").ranked().index[0]
    'protein_pct'
    """

    alpha: float = 0.05

    name: ClassVar[str] = "drop column"
    says: ClassVar[str] = (
        "score lost when the model is refitted without a feature. Near-duplicates both score about 0; one refit per feature"
    )

    def measure(self, table: Table, model: Model, setting: Setting) -> Findings:
        scorer = setting.scorer(table, model)
        every = table.features
        walk = scorer.walk(every)
        if isinstance(walk, PlainWalk):
            without = np.array([s.values for s in scorer.many([set(every) - {f} for f in every])])
        else:
            changes = walk.changes(every)
            place = {n: k for k, n in enumerate(changes.names)}
            without = changes.by_fold[[place[f] for f in every]]
        full, metric = scorer(every).values, METRICS[scorer.metric.name]
        lost = (full[None] - without) * (1 if metric.higher_is_better else -1)
        settings = {"by": self.name, "model": model.label, "metric": metric.name}
        notes = (f"{metric.label} lost; with all columns {full.mean():.3g}",)
        return importance_findings(self, lost.T, table, setting.folds, settings, notes, tested=True, alpha=self.alpha)
