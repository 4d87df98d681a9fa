"""One fit of one model on all rows of a table, and what a forest scores on rows that its trees have not learned from."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from chaff.errors import ModelError
from chaff.metrics import METRICS, Truth, default_metric, find_metric
from chaff.models.forest import Forest
from chaff.models.forms import sample
from chaff.models.named import as_model
from chaff.models.protocols import Fitted, Model, target_refusal
from chaff.table.table import Table
from chaff.work import Work, Workers


def fit(table: Table, model: Model | str | Mapping[str, Any], *, seed: int = 0, workers: Workers = None) -> Fitted:
    """Fit a model on all rows of a table, to look at what it has learned.

    Parameters
    ----------
    table : Table
        Its features and its target.
    model : model, str or dict
        ``chaff.Lasso()``, "lasso" or ``{"name": "lasso", "penalty": 0.1}``.
    seed, workers : int

    Returns
    -------
    What the model's `fit` gives: `importance()`, and what it has of its own, such as `path`, `penalty`, `coefficients` and
    `raw_coefficients` of a lasso. A score on rows that it was fitted on promises nothing.

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
    return chosen.fit(sample(table, chosen.learns, work), work)


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
