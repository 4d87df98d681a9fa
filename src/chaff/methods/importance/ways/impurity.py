"""Impurity: what the splits on a column brought, on the rows they were made for and on rows they have not seen."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from chaff.arrays import Floats
from chaff.evaluate.setting import Setting
from chaff.methods.importance.way import FoldFit, fits, importance_findings
from chaff.models.boosting import FittedBoosting
from chaff.models.fitted_trees import FittedForest
from chaff.models.protocols import HasImportance, Model
from chaff.results.findings import Findings
from chaff.table.table import Table

TREES = "tree, forest, extremely random forest, boosting"


@dataclass(frozen=True)
class Impurity:
    """Share of the variance that the splits on a feature explain.

    Parameters
    ----------
    corrected : bool
        On held-out rows, where a column of noise gains nothing on average however many values it has; else on the rows that
        the splits were made for, which favours columns with many values.

    Notes
    -----
    Corrected: covariance of the target with what the splits on a feature changed along each held-out row's way, over the
    target's variance. `raw_share` has the uncorrected share of the total beside it. A user's own model that tells its
    importance is shown as it tells it. Source: Breiman, 2001; corrected: Li, Wang, Kumbier and Yu, 2019.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> chaff.importance(lots, "forest", by="impurity").ranked().index[0]
    'protein_pct'
    """

    corrected: bool = True

    name: ClassVar[str] = "impurity"
    says: ClassVar[str] = (
        "variance explained by the splits on a feature. Near-duplicates share it; uncorrected it favours features with many values"
    )

    def measure(self, table: Table, model: Model, setting: Setting) -> Findings:
        made = fits(table, model, setting)
        raw = np.array([_raw(f, model) for f in made])
        trees = [trees_of(f.fitted) for f in made]
        held = None
        if all(t is not None for t in trees):
            held = np.array([_held_out(f, t) for f, t in zip(made, trees, strict=True)])
        notes = ["importance as the model itself tells it: it cannot be corrected"] if held is None and self.corrected else []
        by_fold = held if self.corrected and held is not None else raw
        settings = {"by": self.name, "model": model.label, "corrected": self.corrected and held is not None}
        return importance_findings(
            self, by_fold, table, setting.folds, settings, notes, extra={"raw_share": raw.mean(0)}, better={"raw_share": "higher"}
        )


def trees_of(fitted: Any) -> FittedForest | None:
    if isinstance(fitted, FittedForest):
        return fitted
    return fitted.trees if isinstance(fitted, FittedBoosting) else None


def _raw(fit: FoldFit, model: Model) -> Floats:
    from chaff.errors import ModelError
    from chaff.evaluate.fitted import named_failure

    if not isinstance(fit.fitted, HasImportance) or (trees_of(fit.fitted) is None and not getattr(model, "own", False)):
        raise ModelError(f"{model.label} has no splits; models that have: {TREES}")
    with named_failure(model, fit.split, fit.split.train.features):
        given = np.asarray(fit.fitted.importance(), float)
    return given / given.sum() if given.sum() > 0 else given


def _held_out(fit: FoldFit, trees: FittedForest | None) -> Floats:
    """Explained share of the held-out rows' variance, by feature."""
    if trees is None:
        return np.empty(0)
    rows, w = fit.split.test, fit.split.truth.weights
    steps = trees.steps(rows) * (trees.trees if isinstance(fit.fitted, FittedBoosting) else 1)
    off = rows.targets - fit.split.truth.train_means
    around = float(w @ (off**2).sum(1))
    return np.asarray(np.einsum("i,ift,it->f", w, steps, off) / around) if around > 0 else np.zeros(steps.shape[1])
