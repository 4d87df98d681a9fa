"""The kept set against all columns offered then, on the new rows, neither chosen on them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats
from chaff.decide.plan import Plan, Scoring
from chaff.decide.rechecking.result import LEVEL, Verdict
from chaff.decide.relations import changed_relations
from chaff.decide.selection import Selection
from chaff.evaluate.setting import Setting
from chaff.folds import make_folds
from chaff.methods.search.additions import row_losses
from chaff.methods.search.nested_error import nested_error
from chaff.methods.search.search_data import SearchData, averaged
from chaff.methods.search.size_choice import keep_up_of
from chaff.metrics import METRICS
from chaff.models.protocols import Model
from chaff.results.digits import score
from chaff.stats.paired_loss import KeepUp, pooled
from chaff.stats.tail_probabilities import t_quantile
from chaff.table.table import Table
from chaff.work import Work


@dataclass(frozen=True)
class KeptVersusAll:
    """Kept and full set on the new rows."""

    metric: str
    now: tuple[float, float]
    full: tuple[float, float]
    keep_up: KeepUp
    data: SearchData
    kept_losses: Floats
    """float64 (rows,): of new coefficients."""


def standing_of(table: Table, kept: Sequence[str], offered: Sequence[str], used: Model, plan: Plan, work: Work) -> KeptVersusAll:
    work.tell("kept against full")
    few = frozenset(kept)
    many = frozenset(f for f in offered if table.kind(f) not in ("date", "text") and not table.column(f).missing.all()) | few
    wide = table.with_features([f for f in table.features if f in many] or table.features[:1])
    scoring = Scoring()
    folds = make_folds(wide, scoring.folds_for(wide), scoring.repeats_for(wide), work)
    data = SearchData.of(wide, Setting(folds, metric=plan.score.metric, work=work), [used])
    a, b = row_losses([few, many], used, data)
    inflation = nested_error(data, used, many).inflation
    keep = keep_up_of(a, b, data, inflation=inflation)
    metric = data.row_metric
    none = averaged(data.none.losses[0])
    tested = np.flatnonzero(~np.isnan(a) & ~np.isnan(none))
    assert metric.of_losses is not None
    own, whole = (pooled(metric.of_losses, x[tested], none[tested], data.units.take(tested), inflation) for x in (a, b))
    return KeptVersusAll(metric.name, (own.score, own.se), (whole.score, whole.se), keep, data, a)


def reasons_of(result: KeptVersusAll, selection: Selection) -> list[tuple[Verdict, str]]:
    out: list[tuple[Verdict, str]] = []
    d, allowance = result.keep_up.difference, result.keep_up.allowance
    if d.df > 0 and d.lower(LEVEL) > max(allowance, 0.0):
        label = METRICS[result.metric].label
        out.append(
            (
                "reselect",
                f"the selected set is worse than all candidates of then: {label} {score(result.now[0])} against {score(result.full[0])}",
            )
        )
    then = score_then(selection)
    if then is not None and metric_then(selection) == result.metric and not METRICS[result.metric].unit_of_target:
        gap, error = result.now[0] - then[0], float(np.hypot(result.now[1], then[1]))
        worse = gap if not METRICS[result.metric].higher_is_better else -gap
        if error > 0 and worse > t_quantile(1 - LEVEL / 2, max(d.df, 2.0)) * error:
            out.append(("refit", f"it predicts significantly worse than at selection: {score(result.now[0])}, then {score(then[0])}"))
    return out


def other_relations(selection: Selection, table: Table, kept: Sequence[str]) -> list[tuple[Verdict, str]]:
    """Kept columns that do not go with the target as they did."""
    then = {k.name: k.relation for k in selection.kept if k.relation is not None and k.name in kept}
    result = changed_relations(then, selection.target.classes, table, LEVEL / 10)  # what is turned round shows far beyond that
    return [
        ("refit", f"the relation of {f} with {selection.target.name} differs from that at selection (p {p:.1g})") for f, p in result.items()
    ]


def score_then(selection: Selection) -> tuple[float, float] | None:
    honest = selection.scores.get("honest")
    if not honest or honest.get("mean") is None or honest.get("se") is None:
        return None
    return float(honest["mean"]), float(honest["se"])


def metric_then(selection: Selection) -> str:
    honest = selection.scores.get("honest")
    return str(honest["metric"]) if honest else "log_loss" if selection.target.classes else "r2"
