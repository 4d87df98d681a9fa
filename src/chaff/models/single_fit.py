"""One fit of one model on all rows of a table, and what a forest scores on rows that its trees have not learned from.

New rows as a table reads its own: the same kinds and levels, so that what was learned from the table can be asked of them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from chaff.errors import DataError, ModelError
from chaff.metrics import METRICS, Truth, default_metric, find_metric
from chaff.models.forest import Forest
from chaff.models.forms import learn_form, sample
from chaff.models.named import as_model
from chaff.models.protocols import Fitted, HasImportance, HasRemarks, Model, Prepared, Sample, target_refusal
from chaff.table.files.sources import read_source
from chaff.table.kinds import Column
from chaff.table.opening import open_on
from chaff.table.table import Table
from chaff.visible import Shown
from chaff.work import Work, Workers


def rows_like(table: Table, rows: Any) -> Table:
    """The rows of a frame, a file or another table, with the features, kinds and levels of `table`.

    A level that `table` does not have counts as missing, or as the commonest where nothing was missing.

    Raises
    ------
    DataError
        When a feature is not there, or holds words in place of numbers.
    """
    if isinstance(rows, Table):
        if rows.source is table.source:
            return rows.with_features(table.features)
        opened = rows
    else:
        arrow, _ = read_source(rows, table.terms.reading)
        there = {str(n) for n in arrow.column_names} - {table.terms.target}
        kept = {f: kind for f in table.features if f in there and (kind := table.kind(f)) != "binary"}
        terms = table.terms.only_with(there)
        plain: dict[str, Any] = {"target": "", "task": "auto", "positive": None, "groups": None, "order": None, "weights": None}
        plain |= {"target_above": None, "target_cuts": (), "target_labels": (), "target_name": "", "features": ()}
        opened = open_on(rows, replace(terms, **plain, kinds={**kept, **terms.kinds}))
    gone = [f for f in table.features if f not in opened.source.known]
    if gone:
        raise DataError(f"{opened.label} lacks {', '.join(repr(f) for f in gone)}, which the model has learned from")
    gaps = {f: table.source.has_gaps(f) for f in table.features}
    columns = {f: _as_known(opened.source.column(f), table.whole_column(f), gaps[f], opened.label) for f in table.features}
    source = replace(opened.source, made={**opened.source.made, **columns}).apart(gaps)
    nothing = np.zeros(opened.y_all.shape)  # no model looks at it
    return replace(opened, source=source, features=table.features, target=table.target, y_all=nothing, groups_all=None, order_all=None)


def _word(value: float) -> str:
    """A number as a level is written."""
    return str(int(value)) if value.is_integer() else repr(value)


def _as_known(column: Column, known: Column, gaps: bool, label: str) -> Column:
    """The cells under the levels of a column that is known."""
    if not known.levels:
        if column.levels:
            raise DataError(f"{label}: '{column.name}' holds words; the model has learned from numbers")
        return column
    place = {level: float(k) for k, level in enumerate(known.levels)}
    words = column.levels or tuple(_word(v) for v in np.unique(column.values[~column.missing]).tolist())
    usual = float(np.argmax(np.bincount(known.values[~known.missing].astype(int), minlength=1)))
    codes = np.array([*(place.get(w, np.nan) for w in words), np.nan])
    codes[np.isnan(codes)] = np.nan if gaps else usual
    where = column.values if column.levels else np.searchsorted([float(w) for w in words], np.nan_to_num(column.values)).astype(float)
    return replace(known, values=codes[np.where(column.missing, len(words), where).astype(int)])


FOREMOST = 6  # features that the short text names


@dataclass(frozen=True, repr=False)
class FittedModel(Shown):
    """A model that has learned from a table: it predicts new rows, and has what the fit itself has.

    >>> import chaff
    >>> lots = chaff.demo.lots(rows=300)
    >>> fitted = chaff.models.fit(chaff.open_table(lots[["protein_pct", "ash_pct", "loaf_volume"]], "loaf_volume"), "ridge")
    >>> fitted.predict(lots.head(2)).round().tolist()
    [402.0, 414.0]
    """

    model: Model
    table: Table
    """What it has learned from."""
    fitted: Fitted
    reads: Prepared

    def predict(self, rows: Any) -> Any:
        """What the model says of rows.

        Parameters
        ----------
        rows : pandas frame, file, Table or Sample
            With the features that it has learned from; a level that it has not seen counts as missing, or as the commonest where none
            was.

        Returns
        -------
        pandas Series or DataFrame
            A number a row; with two classes the probability of the positive one; with more a column a class. For a `Sample` the
            plain array.

        Raises
        ------
        DataError, ModelError
        """
        import pandas as pd

        if isinstance(rows, Sample):
            return self.fitted.predict(rows)
        table, target = rows_like(self.table, rows), self.table.target
        values = self.fitted.predict(self.reads.apply(table))
        own_index = isinstance(rows, pd.DataFrame) and len(rows) == len(values)
        index = rows.index if own_index else pd.RangeIndex(len(values), name="row")
        if len(target.classes) > 2:
            return pd.DataFrame(values, index=index, columns=list(target.classes))
        name = f"probability of {target.positive}" if target.classes else target.name
        return pd.Series(values[:, 0], index=index, name=name)

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__") or name == "fitted":
            raise AttributeError(name)
        return getattr(self.fitted, name)

    def __str__(self) -> str:
        t = self.table
        lines = [f"{self.model.label} on {len(t):,} rows, {len(t.features)} feature{'s' * (len(t.features) != 1)}, target {t.target.name}"]
        if isinstance(self.fitted, HasImportance):
            weight = self.fitted.importance()
            order = np.argsort(-weight, kind="stable")[:FOREMOST]
            rest = f" and {len(weight) - len(order)} more" if len(weight) > len(order) else ""
            lines.append("importance: " + ", ".join(f"{t.features[k]} {weight[k]:.3g}" for k in order) + rest)
        lines += [f"note: {r}" for r in (self.fitted.remarks() if isinstance(self.fitted, HasRemarks) else ())]
        return "\n".join([*lines, "predict(rows) takes a frame, a file or a table"])


def fit(table: Table, model: Model | str | Mapping[str, Any], *, seed: int = 0, workers: Workers = None) -> FittedModel:
    """Fit a model on all rows of a table, to look at what it has learned, or to predict new rows.

    Parameters
    ----------
    table : Table
        Its features and its target.
    model : model, str or dict
        ``chaff.Lasso()``, "lasso" or ``{"name": "lasso", "penalty": 0.1}``.
    seed, workers : int

    Returns
    -------
    FittedModel
        `predict(rows)` for a frame, a file or a table; and what the model's `fit` gives: `importance()`, and what it has of its own,
        such as `path`, `penalty`, `coefficients` and `raw_coefficients` of a lasso. A score on rows that it was fitted on promises
        nothing.

    Raises
    ------
    UsageError, ModelError

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "lab_temp_c"])
    >>> fitted = chaff.models.fit(lots, chaff.Lasso())
    >>> fitted.path.losses.shape
    (5, 100)
    """
    chosen, work = as_model(model), Work(seed, workers)
    if refusal := target_refusal(chosen, table):
        raise ModelError(refusal)
    learns = learn_form(chosen.learns, table, work, chosen.label)
    reads = learns if chosen.reads == chosen.learns else learn_form(chosen.reads, table, work, chosen.label)
    return FittedModel(chosen, table, chosen.fit(learns.apply(table), work), reads)


def out_of_bag(
    table: Table, forest: Model | str | Mapping[str, Any] = "forest", metric: str | None = None, *, seed: int = 0, workers: Workers = None
) -> float:
    """The score of a forest on all rows, each predicted by the trees that have not learned from it.

    Parameters
    ----------
    table : Table
        With groups, whole groups are drawn for each tree, so that a row is predicted by trees that know none of its group.
    forest : Forest, str or dict
    metric : str, optional
        As of `SubsetScorer`; r2 or log_loss when left out.
    seed, workers : int

    Returns
    -------
    float

    Raises
    ------
    ModelError
        When every tree has learned from every row, or the model is no forest.

    Notes
    -----
    Source: Breiman, 1996.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct"])
    >>> -0.5 < chaff.models.out_of_bag(lots, chaff.Forest(trees=50)) < 0.9
    True
    """
    model, work = as_model(forest), Work(seed, workers)
    if not isinstance(model, Forest):
        raise ModelError(f"{model.label} draws no rows, so that none is out of bag: use forest")
    rows, target = sample(table, "bins", work), table.target
    chosen = METRICS[default_metric(target.task).name] if metric is None else find_metric(metric, target.task, len(target.classes))
    predicted, seen = model.grow(rows, work, table.groups, mark=np.arange(len(table))).out_of_bag(rows)
    if not seen.any():
        raise ModelError("every tree has learned from every row: more trees, or fewer rows a tree")
    weights = np.ones(len(table)) if table.weights is None else table.weights
    means = np.average(rows.targets, axis=0, weights=weights)
    return float(chosen.of_predictions(Truth(rows.targets[seen], weights[seen], means), predicted[seen]))
