"""What the old rows add: coefficients from then on the new rows, and a model that tells old rows from new."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.decide.honest import fitted_losses
from chaff.decide.rechecking.kept_versus_all import KeptVersusAll
from chaff.decide.rechecking.result import LEVEL, OldRows, Verdict
from chaff.decide.selection import Selection
from chaff.errors import DataError
from chaff.evaluate.fitted import Prepare
from chaff.folds import make_folds
from chaff.methods.evaluation.everywhere import group_names
from chaff.methods.evaluation.influence import moved_by
from chaff.metrics import METRICS, Truth
from chaff.models.forest import Forest
from chaff.models.protocols import HasImportance, Model
from chaff.stats.paired_loss import Units
from chaff.stats.tail_probabilities import t_quantile
from chaff.table.kinds import Column
from chaff.table.opening import open_on
from chaff.table.table import Table
from chaff.table.terms import Terms
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

APART = 0.6  # ROC AUC from which a model that tells old rows from new says something
FOLDS = 5


def with_old(
    selection: Selection, old: Table, new: Table, kept: Sequence[str], used: Model, result: KeptVersusAll, work: Work
) -> tuple[OldRows, list[tuple[Verdict, str]]]:
    """Old coefficients on the new rows, and a model that tells old rows from new."""
    both, is_new = _stacked(selection, old, new, kept)
    out: list[tuple[Verdict, str]] = []
    old_part, new_part = both.take(np.flatnonzero(~is_new)), both.take(np.flatnonzero(is_new))
    losses, _ = fitted_losses(result.data, used, frozenset(kept), old_part, new_part, work)
    seen = np.flatnonzero(~np.isnan(result.kept_losses))
    stale = result.data.units.take(seen).mean(losses[seen] - result.kept_losses[seen])
    if stale.df > 0 and stale.lower(LEVEL) > max(result.keep_up.allowance, 0.0):
        out.append(("refit", "the old coefficients lose more on the new rows than refitted ones"))
    apart, low, by = _telling_apart(both, is_new, kept, work)
    if low > 0.5 and apart >= APART:
        subset = ", ".join(map(str, by.index[:3]))
        out.append(("refit", f"a forest distinguishes old rows from new (ROC AUC {apart:.2f}), mainly by {subset}"))
    return OldRows(stale, apart, low, by), out


def _stacked(selection: Selection, old: Table, new: Table, kept: Sequence[str]) -> tuple[Table, Any]:
    """Old and new rows in one table, so that both are read with the same kinds and levels."""
    import pandas as pd

    lacking = [f for f in kept if f not in old.features]
    if lacking:
        raise DataError(f"{old.label} lacks kept column '{lacking[0]}': are these the rows that were selected from?")
    frames = []
    for t in (old, new):
        cells = {f: _cells(t.column(f)) for f in kept} | {"(target)": _cells(Column("y", "number", t.y, t.target.classes))}
        cells |= {role: values for role, values in (("(order)", t.order), ("(weights)", t.weights)) if values is not None}
        if t.groups is not None:  # by name: a mill that is new may have the number that an old one had
            cells["(groups)"] = group_names(t)
        frames.append(pd.DataFrame(cells))
    both = pd.concat(frames, ignore_index=True)
    roles = {r: f"({r})" for r in ("groups", "order", "weights") if f"({r})" in both.columns}
    kinds = {k.name: k.kind for k in selection.kept if k.name in kept}
    terms = Terms(target="(target)", task=selection.target.task, positive=selection.target.positive, kinds=kinds)
    opened = open_on(both, terms.changed_by(**roles))
    return opened, np.arange(len(both))[opened.rows] >= len(old)


def _cells(column: Column) -> Any:
    if not column.levels:
        return column.values
    levels = np.array([*column.levels, None], dtype=object)
    return levels[np.where(column.missing, len(column.levels), np.nan_to_num(column.values)).astype(int)]


def _telling_apart(both: Table, is_new: Any, kept: Sequence[str], work: Work) -> tuple[float, float, pd.DataFrame]:
    """(ROC AUC over folds, its lower bound, which columns it goes by) of a forest that tells new rows from old."""
    import pandas as pd

    target = replace(both.target, task="classification", classes=("old", "new"), positive="new", name="(is new)")
    y_all = np.full(both.y_all.shape, np.nan)
    y_all[both.rows] = is_new.astype(float)
    # Groups stay whole: a forest that has seen a mill knows its rows again, whether anything has moved or not.
    requested = replace(both, target=target, y_all=y_all, order_all=None, weights_all=None).with_features(kept)
    groups = FOLDS if both.groups is None else np.unique(both.groups).size
    folds, model = make_folds(requested, min(FOLDS, groups), 1, work), Forest(trees=60)
    shares, weights = np.full(len(requested), np.nan), np.zeros(len(kept))
    for k, split in enumerate(folds.splits):
        prepared = Prepare(requested, model, folds, work)(k)
        fitted = model.fit(prepared.learns.select(prepared.train, kept), prepared.work)
        shares[folds.rows(split)[1]] = fitted.predict(prepared.reads.select(prepared.test, kept))[:, 0]
        weights += np.asarray(fitted.importance()) if isinstance(fitted, HasImportance) else 0.0
    seen = ~np.isnan(shares)
    truth = Truth(is_new.astype(float)[seen][:, None], np.ones(int(seen.sum())), np.array([is_new.mean()]))
    moved = moved_by(METRICS["auc"], truth, shares[seen][:, None])
    # Rows of one mill hang together then as now, so groups are what is counted.
    result = Units(groups=both.groups[seen] if both.groups is not None else None).mean(moved.influence)
    reach = t_quantile(1 - LEVEL, result.df) * result.se if result.df > 0 else float("inf")
    by = pd.DataFrame({"importance": weights / max(weights.sum(), 1e-300)}, index=pd.Index(list(kept), name="column"))
    return moved.score, moved.score - reach, by.sort_values("importance", ascending=False, kind="stable")
