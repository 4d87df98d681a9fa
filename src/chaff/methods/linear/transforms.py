"""Scalers of the columns and transforms of the target side by side, learned on training rows, errors in the target's own units."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.errors import UsageError, nearest
from chaff.folds import Folds, make_folds
from chaff.methods.linear.rows import LinearForm, linear_form
from chaff.metrics import parts_of_r2
from chaff.results.score import corrected_error
from chaff.stats.tolerances import FLAT, ROUNDING
from chaff.table.table import Table
from chaff.work import Work, Workers, task

if TYPE_CHECKING:
    import pandas as pd

SCALERS = ("none", "standard", "min-max", "log", "rank-normal")
TARGETS = ("none", "standard", "min-max", "log", "rank-normal")
RIDGE = 1e-8


def try_forms(
    table: Table,
    features: Sequence[str] | None = None,
    *,
    scalers: Sequence[str] = SCALERS,
    targets: Sequence[str] = TARGETS,
    penalty: float = 0.0,
    folds: int = 5,
    seed: int = 0,
    workers: Workers = None,
) -> pd.DataFrame:
    """Cross-validated R², RMSE and MAE of linear models under every scaler and target transform.

    Parameters
    ----------
    table : Table
        With a number target.
    features : list of str, optional
    scalers : list of "none", "standard", "min-max", "log", "rank-normal"
        Of number columns. "log": log of 1 + the value less the training minimum; "rank-normal": the normal score of its
        place among the training rows.
    targets : the same, of the target
        Predictions are turned back before they are scored, so that every row of the result is in the target's own units.
    penalty : float
        Ridge on the scaled columns as they are, in units of rows. Without one (0) least squares cannot tell none, standard and
        min-max apart, and they score alike.
    folds, seed, workers : int

    Returns
    -------
    frame indexed by (scaler, target), the best first: r_squared, r_squared_se, rmse, mae

    Notes
    -----
    Everything is learned on training rows. Rank-normal scores: Blom, 1958.

    Examples
    --------
    >>> import chaff
    >>> tried = chaff.try_forms(chaff.demo.table(rows=200), ["protein_pct", "ash_pct"], scalers=["none", "log"], targets=["none"])
    >>> sorted(tried.index.get_level_values("scaler"))
    ['log', 'none']
    """
    import pandas as pd

    for given, known in ((scalers, SCALERS), (targets, TARGETS)):
        for name in given:
            if name not in known:
                raise UsageError(f"unknown form '{name}'; choose from {', '.join(known)}.{nearest(name, known)}")
    if penalty < 0:
        raise UsageError(f"penalty must be 0 or more, not {penalty}")
    form = linear_form(table, features)
    work = Work(seed, workers)
    split = make_folds(form.table, folds, 1, work)
    numbers = np.array([form.table.kind(form.features[f]) == "number" for f in form.owner], bool)

    done = work.each(task(_tried, form, split, numbers, penalty), [(s, t) for s in scalers for t in targets])
    frame = pd.DataFrame(done, columns=["scaler", "target", "r_squared", "r_squared_se", "rmse", "mae"])
    return frame.sort_values("r_squared", ascending=False, kind="stable").set_index(["scaler", "target"])


def _tried(form: LinearForm, folds: Folds, numbers: Flags, penalty: float, pair: tuple[str, str]) -> tuple[Any, ...]:
    """One scaler and one target transform over all folds."""
    rows = [_losses(form.X, form.y, numbers, *folds.rows(part), *pair, penalty) for part in folds.splits]
    lost, none, mae = np.array(rows).T
    r2 = parts_of_r2(lost, none)
    return (*pair, r2.mean(), corrected_error(r2, folds.test_share), np.sqrt(lost.mean()), mae.mean())


def _losses(X: Floats, y: Floats, numbers: Any, train: Any, test: Any, scaler: str, target: str, penalty: float) -> tuple[float, ...]:
    A, B = X[train].copy(), X[test].copy()
    for k in np.flatnonzero(numbers):
        there, _ = learned(scaler, X[train, k])
        A[:, k], B[:, k] = there(A[:, k]), there(B[:, k])
    there, back = learned(target, y[train])
    v = there(y[train])
    means, middle = A.mean(0), v.mean()
    Z = A - means
    G = Z.T @ Z
    size = np.diagonal(G).copy()
    G[np.diag_indices(len(G))] += penalty * len(train) + RIDGE * np.maximum(size, FLAT) * 1e-2
    beta = np.linalg.lstsq(G, Z.T @ (v - middle), rcond=ROUNDING)[0]
    predicted = back(middle + (B - means) @ beta)
    e = y[test] - predicted
    return float((e**2).mean()), float(((y[test] - y[train].mean()) ** 2).mean()), float(np.abs(e).mean())


def learned(name: str, train: Floats) -> tuple[Any, Any]:
    """(transform, its inverse), learned on training values."""
    if name == "none":
        return (lambda v: v), (lambda v: v)
    if name == "standard":
        middle, scale = float(train.mean()), float(train.std()) or 1.0
        return (lambda v: (v - middle) / scale), (lambda v: v * scale + middle)
    low, high = float(train.min()), float(train.max())
    if name == "min-max":
        reach = (high - low) or 1.0
        return (lambda v: (v - low) / reach), (lambda v: v * reach + low)
    if name == "log":
        # Below anything seen in training the logarithm has no end: it stops half a unit under the lowest.
        return (lambda v: np.log(np.maximum(1.0 + v - low, 0.5))), (lambda v: np.exp(np.minimum(v, 700.0)) - 1.0 + low)
    from scipy.special import ndtr, ndtri

    ascending = np.sort(train)
    n = ascending.size
    places = (np.arange(1, n + 1) - 0.375) / (n + 0.25)
    values, first = np.unique(ascending, return_index=True)
    last = np.append(first[1:], n) - 1
    scores = (places[first] + places[last]) / 2

    def forward(v: Floats) -> Floats:
        return np.asarray(ndtri(np.interp(v, values, scores)))

    def backward(v: Floats) -> Floats:
        return np.asarray(np.interp(ndtr(v), scores, values))

    return forward, backward
