"""Stand-ins for what must not be used: how well the kept columns predict a protected one, which carry that, and the score without them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import ChaffError, DataError
from chaff.evaluate.setting import Setting
from chaff.folds import make_folds
from chaff.methods.search.additions import row_losses
from chaff.methods.search.search_data import SearchData, averaged
from chaff.methods.search.size_choice import keep_up_of
from chaff.models.forest import Forest
from chaff.models.logistic import Logistic
from chaff.models.protocols import Model
from chaff.results.digits import score, with_error
from chaff.results.plain import records
from chaff.results.shown import frame_html, frame_text
from chaff.stats.paired_loss import pooled
from chaff.table.table import Table, Target
from chaff.visible import Shown
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

FOLDS = 5
FEWEST = 20  # rows of a level, under which it is left out of the question
CARRY = 0.1  # share of what all kept columns tell that is lost without a column, from which it carries
MOST_LEVELS = 20
FOREST = Forest(trees=80)


@dataclass(frozen=True, repr=False)
class Protection(Shown):
    """What the kept columns tell of the protected ones.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.lots(rows=400)
    >>> table = chaff.open_table(lots, "loaf_volume", ignore=["accepted", "grade", "crumb_score"], protected=["variety"])
    >>> run = chaff.select(table, chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
    >>> "variety" in run.features, run.protection().frame.index.tolist()
    (False, ['variety'])
    """

    frame: pd.DataFrame
    """One row a protected column: explained (share of the baseline loss that the kept columns remove, on test folds), explained_se,
    significant (one-sided 1 %), through (the better model), carriers (columns without which a tenth of it is lost), kept_score (of
    the target), score_without (the carriers), loss_without and loss_se (of the mean loss of a row)."""
    carriers: pd.DataFrame
    """One row a protected column and kept column: lost, the share of what is told that goes without it."""
    metric: str
    target: str
    notes: tuple[str, ...] = ()

    @property
    def telling(self) -> tuple[str, ...]:
        """Protected columns that the kept ones surely tell something of."""
        return tuple(str(c) for c in self.frame.index[self.frame["significant"].to_numpy(bool)])

    @property
    def headline(self) -> str:
        if not self.telling:
            return f"the selected features do not predict {', '.join(map(str, self.frame.index))} (protected) significantly"
        return f"the selected features predict protected columns significantly: {', '.join(self.telling)}"

    @property
    def words(self) -> tuple[str, ...]:
        out = []
        for name, r in self.frame.iterrows():
            text = f"{name}: explained by the selected features {with_error(r['explained'], r['explained_se'])} ({r['through']})"
            if r["significant"] and r["carriers"]:
                text += f", mainly through {', '.join(r['carriers'])}; without them {self.target} is predicted with {self.metric} "
                text += f"{score(r['score_without'])} in place of {score(r['kept_score'])}"
            out.append(text)
        return tuple(out)

    def __str__(self) -> str:
        return frame_text(self.headline, self.frame, notes=(*self.words, *self.notes))

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self.frame, notes=(*self.words, *self.notes))

    def as_plain(self) -> dict[str, Any]:
        return {
            "telling": list(self.telling),
            "protected": records(self.frame),
            "carriers": records(self.carriers),
            "notes": list(self.notes),
        }


def protection_of(data: SearchData, model: Model, kept: Sequence[str], protected: Sequence[str]) -> Protection:
    """See `Run.protection`."""
    import pandas as pd

    if not protected:
        raise DataError("no column is protected: open the table with protected=[…] ([table] protected, --protected)")
    rows, carried, notes = {}, [], []
    for name in protected:
        try:
            rows[name], lost = _one(data, model, kept, name)
            carried += [{"protected": name, "feature": f, "lost": v} for f, v in lost.items()]
        except ChaffError as error:
            notes.append(f"{name}: nothing can be said ({error})")
    columns = ["explained", "explained_se", "significant", "through", "carriers", "kept_score", "score_without", "loss_without", "loss_se"]
    frame = pd.DataFrame.from_dict(rows, orient="index", columns=columns).rename_axis("protected")
    frame["significant"] = frame["significant"].astype(bool)
    carriers = pd.DataFrame(carried, columns=["protected", "feature", "lost"]).set_index("protected")
    notes.append("explained: reduction of the baseline loss on test folds; a forest and a linear model, the better one")
    return Protection(frame, carriers, data.row_metric.label, data.table.target.name, tuple(notes))


def asking_for(table: Table, name: str, kept: Sequence[str]) -> Table:
    """The same rows with a protected column as the target and the kept columns as features; rare levels and gaps left out."""
    column = table.whole_column(name)
    values = column.values.copy()
    if column.kind in ("date", "text"):
        raise DataError(f"it holds {column.kind} values")
    if not column.levels:
        target = Target(name, "regression")
    else:
        present = values[table.rows]
        counts = np.bincount(present[~np.isnan(present)].astype(int), minlength=len(column.levels))
        common = [int(k) for k in np.argsort(-counts, kind="stable")[:MOST_LEVELS] if counts[k] >= FEWEST]
        if len(common) < 2:
            raise DataError(f"fewer than two of its levels have {FEWEST} rows or more")
        place = np.full(len(column.levels), np.nan)
        place[sorted(common)] = np.arange(len(common))
        values = np.where(np.isnan(values), np.nan, place[np.nan_to_num(values).astype(int)])
        levels = tuple(column.levels[k] for k in sorted(common))
        target = Target(name, "classification", levels, levels[1] if len(levels) == 2 else None)
    requested = replace(table, target=target, y_all=values, weights_all=table.weights_all).with_features(kept)
    subset = requested.take(np.flatnonzero(~np.isnan(values[table.rows])))
    groups = subset.groups
    if groups is not None and np.unique(groups).size < 2 * FOLDS:  # a region is often whole mills: then single rows are what is asked of
        subset = replace(subset, groups_all=None)
    if subset.target.task == "regression" and np.ptp(subset.y) == 0:
        raise DataError("it has one value only")
    return subset


def _best_scores(table: Table, model: Model, sets: Sequence[frozenset[str]], work: Work) -> list[tuple[float, float, float]]:
    """(share told, its standard error, lower bound) of some sets."""
    folds = make_folds(table, FOLDS, 1, work)
    data = SearchData.of(table, Setting(folds, work=work), [model])
    none = averaged(data.none.losses[0])
    out = []
    for loss in row_losses(sets, model, data):
        subset = np.flatnonzero(~np.isnan(loss) & ~np.isnan(none))
        one = pooled(lambda a, b, _: 1 - a / b if b > 0 else 0.0, loss[subset], none[subset], data.units.take(subset))
        out.append((one.score, one.se, one.score - 1.645 * one.se))
    return out


def _one(data: SearchData, model: Model, kept: Sequence[str], name: str) -> tuple[list[Any], dict[str, float]]:
    """A row of the frame, and what is lost without each kept column."""
    table, work, all_of_it = asking_for(data.table, name, kept), data.work, frozenset(kept)
    linear: Any = Logistic() if table.target.classes else "ridge"
    from chaff.models.named import as_model

    models = [FOREST, as_model(linear)]
    result = [_best_scores(table, m, [all_of_it], work)[0] for m in models]
    best = int(np.argmax([f[0] for f in result]))
    text, error, low = result[best]
    explained = low > 0
    without = [all_of_it - {f} for f in kept] if len(kept) > 1 else []
    lost = (
        {f: max(0.0, text - t[0]) / text for f, t in zip(kept, _best_scores(table, models[best], without, work), strict=False)}
        if explained and without
        else {}
    )
    if explained and len(kept) == 1:
        lost = {kept[0]: 1.0}
    carriers = tuple(f for f, v in sorted(lost.items(), key=lambda p: -p[1]) if v >= CARRY)
    if explained and not carriers and lost:  # columns that stand in for one another: together they carry what none does alone
        carriers = tuple(f for f, _ in sorted(lost.items(), key=lambda p: -p[1])[:3])
    a, b = row_losses([all_of_it, all_of_it - set(carriers)], model, data)
    none = averaged(data.none.losses[0])
    subset = np.flatnonzero(~np.isnan(a) & ~np.isnan(none))
    of = data.row_metric.of_losses
    assert of is not None
    own, less = (pooled(of, x[subset], none[subset], data.units.take(subset)) for x in (a, b))
    apart = keep_up_of(b, a, data)
    row = [text, error, explained, models[best].label, carriers, own.score, less.score, apart.difference.mean, apart.difference.se]
    return row, lost
