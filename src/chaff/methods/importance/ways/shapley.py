"""Shapley values: each prediction shared out among the columns."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from chaff.arrays import Floats
from chaff.errors import ModelError, UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.importance.way import FoldFit, fits, importance_findings
from chaff.methods.importance.ways.impurity import trees_of
from chaff.models.boosting import FittedBoosting
from chaff.models.forms import take_rows
from chaff.models.protocols import HasCoefficients, Model, Sample
from chaff.results.findings import Findings
from chaff.stats.ranks import average_ranks
from chaff.table.table import Table
from chaff.work import task

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Shapley:
    """Mean size of Shapley values over test-fold rows.

    Parameters
    ----------
    rows : int
        Held-out rows in all, drawn from the folds.

    Notes
    -----
    Exact for trees in the path form: a column that is not known is followed down both sides of a split by the weight of the
    training rows there. For linear models coefficient times distance from the mean. With boosting of classes on the scale of
    log odds. `direction` is the rank correlation of a number's value with its effect: near 1 or −1 where it pulls one way.
    ``more["effects"]`` and ``more["values"]`` have every row; with several classes the effect on the commonest. Source:
    Shapley, 1953; trees: Lundberg et al., 2020.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> found = chaff.importance(lots, chaff.Forest(trees=20), by=chaff.Shapley(rows=100))
    >>> found.ranked().index[0], bool(found.frame.loc["protein_pct", "direction"] > 0)
    ('protein_pct', True)
    """

    rows: int = 400

    name: ClassVar[str] = "shapley"
    says: ClassVar[str] = (
        "mean absolute Shapley value of the predictions. Shapley values describe the model, not the target; effects "
        "fitted to noise count too"
    )

    def __post_init__(self) -> None:
        if self.rows < 10:
            raise UsageError("shapley: rows must be 10 or more")

    def measure(self, table: Table, model: Model, setting: Setting) -> Findings:
        import pandas as pd

        folds = setting.folds
        a_fold = max(2, self.rows // max(1, folds.count))
        made = fits(table, model, setting)
        units = list(zip(made, [folds.rows(s)[1] for s in folds.splits], strict=True))
        parts = setting.work.each(task(_effects, model, a_fold), units, "Shapley values")
        by_fold = np.array([np.abs(phi).mean((0, 2)) for phi, _ in parts])
        rows = np.concatenate([r for _, r in parts])
        commonest = int(table.targets.mean(0).argmax())
        effects = pd.DataFrame(
            np.concatenate([phi[:, :, min(commonest, phi.shape[2] - 1)] for phi, _ in parts]), columns=list(table.features)
        )
        values = pd.DataFrame({f: shown_values(table, f)[rows] for f in table.features}, columns=list(table.features))
        extra = {"direction": [_direction(table, f, values[f], effects[f]) for f in table.features]}
        unit = table.target.unit if table.target.task == "regression" else ""
        notes = [f"mean size over {len(rows):,} test-fold rows" + (f", in {unit}" if unit else "")]
        if len(table.target.classes) > 2:
            notes.append(f"effects and direction are those on '{table.target.classes[commonest]}'")
        settings = {"by": self.name, "model": model.label, "rows": self.rows}
        more = {"effects": effects, "values": values}
        return importance_findings(self, by_fold, table, folds, settings, notes, extra=extra, better={"direction": "magnitude"}, more=more)


def shown_values(table: Table, name: str) -> Any:
    """Cells of a column: numbers, or the names of levels."""
    column = table.column(name)
    if column.kind not in ("category", "text"):
        return column.values
    names = np.array([*column.levels, None], dtype=object)
    return names[np.where(column.missing, len(column.levels), np.nan_to_num(column.values)).astype(int)]


def _effects(model: Model, most: int, unit: tuple[FoldFit, Any]) -> tuple[Floats, Any]:
    """(Shapley values (rows, features, t), which rows of the table)."""
    fit, test_rows = unit
    n = len(test_rows)
    which = np.arange(n) if n <= most else np.sort(fit.work.stream("rows").choice(n, most, replace=False))
    rows = take_rows(replace(fit.split.test, table=None), which)
    trees = trees_of(fit.fitted)
    if trees is not None:
        phi = trees.shapley(rows) * (trees.trees if isinstance(fit.fitted, FittedBoosting) else 1)
    elif isinstance(fit.fitted, HasCoefficients):
        phi = _of_line(fit.fitted, fit.split.train, rows)
    else:
        raise ModelError(f"{model.label} has no Shapley values that are exact; models that have: trees of every kind and linear ones")
    return phi, test_rows[which]


def _of_line(fitted: HasCoefficients, train: Sample, rows: Sample) -> Floats:
    """Coefficient times distance from the training mean, added up over the columns of a feature."""
    raw, X, layout = fitted.on_columns()[1], rows.data.X, rows.data.layout
    means = _means(fitted, train)
    off = np.where(np.isnan(X), 0.0, X - means)
    out = np.empty((len(X), len(rows.features), raw.shape[1]))
    for k, (a, b) in enumerate(zip(layout.starts[:-1], layout.starts[1:], strict=True)):
        out[:, k] = off[:, a:b] @ raw[a:b]
    return out


def _means(fitted: Any, train: Sample) -> Floats:
    """Training means of the design columns, as the fit has them."""
    return np.asarray(fitted.means if hasattr(fitted, "means") else fitted.standard.means)


def _direction(table: Table, name: str, values: pd.Series, effects: pd.Series) -> float:
    """Rank correlation of a number's value with its effect; missing for categories."""
    if table.column(name).kind in ("category", "text"):
        return float("nan")
    there = values.notna().to_numpy()
    if there.sum() < 3:
        return float("nan")
    a, b = (average_ranks(v.to_numpy(float)[there]) for v in (values, effects))
    if a.std() == 0 or b.std() == 0:
        return float("nan")
    return float(np.corrcoef(a, b)[0, 1])
