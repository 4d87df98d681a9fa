"""One fit of one model on all rows of a table."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from chaff.models.forms import sample
from chaff.models.named import as_model
from chaff.models.protocols import Fitted, Model
from chaff.table.table import Table
from chaff.work import Work


def fit(table: Table, model: Model | str | Mapping[str, Any], *, seed: int = 0, workers: int | None = None) -> Fitted:
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
    return chosen.fit(sample(table, chosen.learns, work), work)
