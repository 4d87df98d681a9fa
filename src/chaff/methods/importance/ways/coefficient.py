"""Coefficients: standardised, so that they can be compared, beside the raw ones."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.importance.way import fits, importance_findings, need, remarks_of
from chaff.models.forms import learn_form
from chaff.models.named import as_model
from chaff.models.penalised import FittedPenalised
from chaff.models.protocols import HasCoefficients, Model
from chaff.results.findings import Findings
from chaff.table.design import Layout
from chaff.table.table import Table
from chaff.work import Work, task

if TYPE_CHECKING:
    import pandas as pd

LINEAR = "ridge, least squares, lasso, elastic net, group lasso, logistic, linear margin"


@dataclass(frozen=True)
class Coefficient:
    """Size of standardised coefficients of a linear model.

    Parameters
    ----------
    resamples : int
        Half-samples of the rows (of groups, where there are) in which a column is looked for again; 0 leaves it out.
    over_folds : bool
        Whether the model is fitted in every fold too: `importance` is then the mean over them, with a spread. False: one fit on all rows.
    beside : sequence of models, optional
        Linear models whose coefficients stand side by side with the model's: ``("ridge", "lasso")``.

    Notes
    -----
    `importance` is the length of a feature's coefficients per standard deviation of its columns, averaged over folds;
    `coefficient` and `raw` are those of the fit on all rows (of the one column of a number; missing for categories and several
    classes); `kept` whether it is not zero there, `selection_frequency` in how many half-samples, `enters` its place in the order in
    which columns come in as the penalty falls. ``more["path"]`` has the coefficients along the penalty, ``more["penalties"]``
    the loss of every inner fold at each. Source: half-samples: Meinshausen and Bühlmann, 2010.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> found = chaff.importance(lots, chaff.Lasso(), by=chaff.Coefficient(resamples=10))
    >>> found.ranked().index[0]
    'protein_pct'
    """

    resamples: int = 20
    over_folds: bool = True
    beside: Sequence[Any] = ()

    name: ClassVar[str] = "coefficient"
    says: ClassVar[str] = (
        "change in the prediction per SD of a feature, the others held fixed. Correlated features share it; curves and "
        "interactions are not seen"
    )

    def __post_init__(self) -> None:
        if self.resamples < 0:
            raise UsageError("coefficient: resamples must be 0 or more")
        object.__setattr__(self, "beside", tuple(as_model(m) for m in self.beside))

    def measure(self, table: Table, model: Model, setting: Setting) -> Findings:
        work, layout = setting.work, Layout.of(table, table.features)
        rows = learn_form(model.learns, table, work).apply(table)
        whole = need(model.fit(rows, work), HasCoefficients, model, "its coefficients", LINEAR)
        in_folds = (
            [need(f.fitted, HasCoefficients, model, "its coefficients", LINEAR) for f in fits(table, model, setting)]
            if self.over_folds
            else [whole]
        )
        by_fold = np.array([_lengths(f, layout) for f in in_folds])
        extra, more = self._columns(whole, layout), {}
        if self.resamples:
            # At the penalty that all rows chose: what varies is the rows, not the choice.
            at: Any = model
            if isinstance(whole, FittedPenalised):
                at = replace(at, penalty=whole.penalty, penalties=None)
            halves = work.each(task(_kept_in_half, table, at, work), range(self.resamples), "half-samples")
            extra["selection_frequency"] = np.mean(halves, axis=0)
        if isinstance(whole, FittedPenalised):
            extra["enters"] = _order(whole.path.entered(_used_starts(whole)), whole.path.penalties.size)
            more = path_frames(whole, table)
        if self.beside:
            more["beside"] = self._side_by_side(table, layout, work, model, whole)
        kept = int(extra["kept"].sum())
        notes = [f"{kept} of {len(table.features)} are in at the penalty {whole.penalty:.3g}"] if isinstance(whole, FittedPenalised) else []
        settings = {"by": self.name, "model": model.label, "resamples": self.resamples}
        return importance_findings(
            self, by_fold, table, setting.folds, settings, (*notes, *remarks_of(whole)), extra=extra, more=more,
            better={"coefficient": "magnitude", "raw": "magnitude", "selection_frequency": "higher", "enters": "lower"},
        )  # fmt: skip

    def _columns(self, fitted: Any, layout: Layout) -> dict[str, Any]:
        standardised, raw = fitted.on_columns()
        one = (np.diff(layout.starts) == 1) & (standardised.shape[1] == 1)
        first = layout.starts[:-1]
        return {
            "coefficient": np.where(one, standardised[np.minimum(first, len(standardised) - 1), 0], np.nan),
            "raw": np.where(one, raw[np.minimum(first, len(raw) - 1), 0], np.nan),
            "kept": _lengths(fitted, layout) > 0,
        }

    def _side_by_side(self, table: Table, layout: Layout, work: Work, model: Model, whole: Any) -> pd.DataFrame:
        import pandas as pd

        out = {model.label: _lengths(whole, layout)}
        for other in self.beside:
            fitted = other.fit(learn_form(other.learns, table, work).apply(table), work)
            if not isinstance(fitted, HasCoefficients):
                raise UsageError(f"coefficient: {other.label} has no coefficients; models that have: {LINEAR}")
            out[other.label] = _lengths(fitted, layout)
        return pd.DataFrame(out, index=pd.Index(table.features, name="feature"))


def _lengths(fitted: Any, layout: Layout) -> Floats:
    """float64 (features,): length of each feature's standardised coefficients."""
    size = (fitted.on_columns()[0] ** 2).sum(1)
    return np.array([np.sqrt(size[a:b].sum()) for a, b in pairwise(layout.starts)])


def _kept_in_half(table: Table, model: Model, work: Work, number: int) -> Floats:
    """Which features a fit on half of the rows keeps, float64 (features,)."""
    rows = half_of(table, work, number)
    form = learn_form(model.learns, table.take(rows), work)
    fitted = model.fit(form.apply(table.take(rows)), Work(work.key("half", number), 1))
    return (_lengths(fitted, Layout.of(table, table.features)) > 0).astype(float)


def half_of(table: Table, work: Work, number: int) -> Ints:
    """Half of the rows at random: of the groups where there are, of each class."""
    rng = work.stream("half", number)
    if table.groups is not None:
        codes = np.unique(table.groups)
        return np.flatnonzero(np.isin(table.groups, rng.permutation(codes)[: max(1, codes.size // 2)]))
    strata = table.y if table.target.task == "classification" else np.zeros(len(table))
    parts = [np.flatnonzero(strata == s) for s in np.unique(strata)]
    return np.sort(np.concatenate([rng.permutation(p)[: max(1, p.size // 2)] for p in parts]))


def _used_starts(fitted: FittedPenalised) -> Ints:
    """Where the used columns of each feature begin."""
    return np.searchsorted(fitted.standard.used, fitted.starts).astype(np.int64)


def _order(first: Ints, penalties: int) -> Floats:
    """Place in the order of entering, ties sharing the better one; missing for what never enters."""
    order = np.sort(first)
    return np.where(first < penalties, np.searchsorted(order, first) + 1.0, np.nan)


def path_frames(fitted: FittedPenalised, table: Table) -> dict[str, pd.DataFrame]:
    """The path as frames: lengths by feature (signed for a single column), and what each penalty scored; rmse in the target's units."""
    import pandas as pd

    path, starts = fitted.path, _used_starts(fitted)
    columns = {}
    for k, name in enumerate(table.features):
        block = path.coefficients[:, starts[k] : starts[k + 1]]
        columns[name] = block[:, 0, 0] if block.shape[1:] == (1, 1) else np.sqrt((block**2).sum((1, 2)))
    index = pd.Index(path.penalties, name="penalty")
    scored: Mapping[str, Any] = {f"fold {k}": v for k, v in enumerate(path.losses, 1)}
    penalties = pd.DataFrame(scored, index=index)
    penalties.insert(0, "chosen", np.arange(path.penalties.size) == path.chosen)
    if path.losses.size:
        penalties.insert(1, "best", np.arange(path.penalties.size) == path.best)
        penalties.insert(2, "one_standard_error", np.arange(path.penalties.size) == path.one_standard_error)
        penalties.insert(3, "loss", path.losses.mean(0))
        penalties.insert(4, "loss_se", path.losses.std(0, ddof=1) / np.sqrt(len(path.losses)) if len(path.losses) > 1 else np.nan)
        if table.target.task == "regression":
            spread = float(np.sqrt(np.average((table.y - np.average(table.y, weights=table.weights)) ** 2, weights=table.weights)))
            penalties.insert(5, "rmse", np.sqrt(path.losses.mean(0)) * spread)
    penalties["features"] = (np.array(list(columns.values())) != 0).sum(0)
    return {"path": pd.DataFrame(columns, index=index), "penalties": penalties}
