"""Permutation: what held-out predictions lose when cells are taken from other rows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.evaluate.fitted import checked_predictions, named_failure
from chaff.evaluate.setting import Setting
from chaff.folds import Folds
from chaff.methods.importance.permutation import Strata, clusters, judged_rows, with_cells
from chaff.methods.importance.way import FoldFit, fits, importance_findings
from chaff.metrics import log_loss, squared_loss
from chaff.models.forms import learn_form, take_rows
from chaff.models.protocols import Model, Sample, Shuffles
from chaff.results.findings import Findings
from chaff.table.bins import Bins
from chaff.table.table import Table
from chaff.work import Work, task


@dataclass(frozen=True)
class Permutation:
    """Loss of score on test-fold rows when the values of a feature are permuted among them; for every model.

    Parameters
    ----------
    shuffles : int
        Times each feature is shuffled in each fold.
    given : "nothing" or "neighbours"
        Freely, or only among rows that a small tree of the feature's neighbours puts in one leaf (20 held-out rows at least).
    together : float or None
        Columns whose correlation (of ranks in bins) is above this are shuffled together, as one.
    alpha : float
        A feature is beyond chance when its Holm-adjusted one-sided p is below this.

    Notes
    -----
    R² lost for numbers, log loss gained for classes (squared error of the shares where a model has no probabilities). p from
    the folds, their variance corrected for shared training rows: with five folds it is small only where all agree. Trees walk
    on from where a shuffled cell turns off; other models predict again. Source: Breiman, 2001; given neighbours: Strobl et al.,
    2008.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "protein_nir_pct", "lab_temp_c"])
    >>> found = chaff.importance(lots, "ridge", by=chaff.Permutation(together=0.9))
    >>> found.frame["cluster"].tolist()
    ['protein_pct, protein_nir_pct', 'protein_pct, protein_nir_pct', '']
    """

    shuffles: int = 10
    given: Literal["nothing", "neighbours"] = "nothing"
    together: float | None = None
    alpha: float = 0.05

    name: ClassVar[str] = "permutation"
    says: ClassVar[str] = (
        "rise in test-fold loss when a feature is permuted. Near-duplicates mask each other; permuted rows may be unrealistic"
    )

    def __post_init__(self) -> None:
        if not 1 <= self.shuffles <= 64:
            raise UsageError(f"permutation: shuffles must be 1 to 64, not {self.shuffles}")
        if self.given not in ("nothing", "neighbours"):
            raise UsageError(f"permutation: given must be 'nothing' or 'neighbours', not {self.given!r}")
        if self.together is not None and not 0 < self.together < 1:
            raise UsageError("permutation: together must lie between 0 and 1")
        if self.together is not None and self.given != "nothing":
            raise UsageError("permutation: clusters are permuted freely: leave out given, or together")

    def measure(self, table: Table, model: Model, setting: Setting) -> Findings:
        units: list[tuple[int, ...]] = [(k,) for k in range(len(table.features))]
        if self.together is not None:
            units = clusters(learn_form("bins", table, setting.work).apply(table).data, self.together)
        made = fits(table, model, setting)
        rises = setting.work.each(task(_rise_in_fold, self, table, setting.folds, model, units), made, "importance")
        by_fold = np.array([rise for rise, _ in rises]) / np.mean([scale for _, scale in rises])
        unit = "R² lost" if table.target.task == "regression" else _class_unit(model)
        notes = [f"{unit}, {self.shuffles} permutations a fold, {setting.folds.how}"]
        extra = {}
        if self.together is not None:
            named = {k: ", ".join(table.features[j] for j in u) if len(u) > 1 else "" for u in units for k in u}
            extra["cluster"] = [named[k] for k in range(len(table.features))]
            notes.append(f"{sum(len(u) > 1 for u in units)} clusters of correlated features were permuted as one")
        settings = {"by": self.name, "model": model.label, "shuffles": self.shuffles, "given": self.given, "together": self.together}
        return importance_findings(self, by_fold, table, setting.folds, settings, notes, tested=True, alpha=self.alpha, extra=extra)


def _class_unit(model: Model) -> str:
    return "log loss gained" if "probabilities" in model.gives else "squared error of the shares gained"


def loss_of(rows: Sample, model: Model) -> Any:
    return log_loss if rows.classes and "probabilities" in model.gives else squared_loss


def _rise_in_fold(
    way: Permutation, table: Table, folds: Folds, model: Model, units: list[tuple[int, ...]], fit: FoldFit
) -> tuple[Floats, float]:
    """(mean rise in loss of each feature in one fold, loss of knowing nothing there for numbers and 1 for classes)."""
    which = judged_rows(len(fit.split.truth.targets), fit.work)
    held, w = take_rows(fit.split.test, which), fit.split.truth.weights[which]
    loss = loss_of(held, model)
    strata = None
    if way.given == "neighbours":
        train, test = (table.take(r) for r in folds.rows(folds.splits[fit.split.number]))
        form = learn_form("bins", train, fit.work)
        strata = Strata.learn(form.apply(train), form.apply(test.take(which)), fit.work)
    around = squared_loss(held.targets, fit.split.truth.train_means[None, :])
    scale = 1.0 if held.classes else float(np.average(around, weights=w)) or 1.0
    deals = [[_deal(strata, fit.work, u, s, which.size) for u in units] for s in range(way.shuffles)]
    with named_failure(model, fit.split, held.features):
        quick = isinstance(fit.fitted, Shuffles) and isinstance(held.data, Bins) and way.together is None
        rise = (_at_once if quick else _one_by_one)(fit.fitted, held, units, deals, loss, fit.work)
    per_unit = np.average(rise, axis=1, weights=w)
    out = np.empty(len(held.features))
    for u, value in zip(units, per_unit, strict=True):
        out[list(u)] = value
    return out, scale


def _deal(strata: Strata | None, work: Work, unit: tuple[int, ...], shuffle: int, n: int) -> Ints:
    """The order that one unit's cells are taken in; freely the same for all, so that they are compared on equal terms."""
    if strata is None:
        return work.stream("shuffle", shuffle).permutation(n)
    return strata.deal(unit[0], work.stream("shuffle", shuffle, unit[0]))


def _at_once(fitted: Any, held: Sample, units: list[tuple[int, ...]], deals: list[list[Ints]], loss: Any, work: Work) -> Floats:
    """Rise in loss, float64 (features, rows), by walking on from where a shuffled cell turns off."""
    foreign = []
    for orders in deals:
        codes = np.array([held.data.codes[k][order] for k, order in enumerate(orders)], np.uint8)
        foreign.append(_with_codes(held, codes))
    predicted, blocks = fitted.shuffled(held, foreign, work)
    base = loss(held.targets, predicted)
    out = np.empty((len(units), len(held.targets)))
    for where, change in blocks:
        out[:, where] = (loss(held.targets[where], predicted[where] + change) - base[where]).mean(0)
    return out


def _with_codes(rows: Sample, codes: Any) -> Sample:
    from dataclasses import replace

    bins = rows.data
    return replace(rows, data=Bins(bins.features, codes, bins.counts, bins.category))


def _one_by_one(fitted: Any, held: Sample, units: list[tuple[int, ...]], deals: list[list[Ints]], loss: Any, work: Work) -> Floats:
    """The same by predicting again for every unit and shuffle."""
    base = loss(held.targets, checked_predictions(fitted.predict(held), held))
    out = np.zeros((len(units), len(held.targets)))
    for orders in deals:
        for u, (unit, order) in enumerate(zip(units, orders, strict=True)):
            moved = with_cells(held, [held.features[k] for k in unit], order)
            out[u] += (loss(held.targets, checked_predictions(fitted.predict(moved), held)) - base) / len(deals)
    return out
