"""Residual checks of a linear model, and how it does on rows it has not seen."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from chaff.arrays import Floats
from chaff.errors import UsageError
from chaff.folds import split_holdout
from chaff.methods.linear.linear_form import LinearForm, linear_form
from chaff.stats.linear_model import LeastSquaresFit, constant_variance, lack_of_fit, least_squares, normality
from chaff.stats.tolerances import EXACT
from chaff.table.table import Table
from chaff.visible import Shown
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

MANY = 5000  # rows from which a test of normality notices what does not matter
LARGE_SKEW, LARGE_KURTOSIS = 0.5, 1.0
FAR_COOK = 4.0  # over the rows


@dataclass(frozen=True, repr=False)
class Residuals(Shown):
    """`frame`: one row a row of the table in use: fitted, residual, studentised, leverage, cooks_distance.
    `tests`: normality, constant variance, lack of fit, with what they mean.  `holdout`: scores in the target's own units."""

    frame: pd.DataFrame
    tests: pd.DataFrame
    holdout: pd.DataFrame
    notes: tuple[str, ...]
    form: LinearForm = field(repr=False)
    fit: LeastSquaresFit = field(repr=False)
    true: Floats = field(repr=False)
    """Holdout targets."""
    predicted: Floats = field(repr=False)

    def __str__(self) -> str:
        return "\n".join(
            [self.tests.to_string(float_format="{:.4g}".format), self.holdout.to_string(float_format="{:.4g}".format), *self.notes]
        )


def residuals(table: Table, features: Sequence[str] | None = None, *, holdout: float = 0.2, seed: int = 0) -> Residuals:
    """Check what a least-squares model leaves over, and predict rows it has not seen.

    Parameters
    ----------
    table : Table
        With a number target.
    features : list of str, optional
    holdout : float
        Share of the rows set aside, the latest with an order, whole groups with groups; 0 for none.
    seed : int

    Returns
    -------
    Residuals

    Notes
    -----
    Normality: skewness and kurtosis together (D'Agostino and Pearson, 1973), with n in mind: with many rows the test notices
    what does not matter, so skewness and kurtosis stand beside it. Constant variance: Breusch and Pagan, 1979 (Koenker, 1981).
    Lack of fit: Ramsey, 1969. Influence: Cook, 1977.

    Examples
    --------
    >>> import chaff
    >>> checked = chaff.residuals(chaff.demo.table(), ["protein_pct", "ash_pct"])
    >>> list(checked.tests.index)
    ['normality', 'constant variance', 'lack of fit']
    """
    import pandas as pd

    if not 0 <= holdout < 1:
        raise UsageError(f"holdout must be 0 or more and below 1, not {holdout}")
    whole = linear_form(table, features)
    n = whole.y.size
    rows, held = split_holdout(whole.table, holdout, Work(seed)) if holdout else (np.arange(n), np.empty(0, np.int64))
    form = LinearForm(whole.table.take(rows), whole.columns, whole.starts, whole.X[rows], whole.y[rows], whole.notes)
    fit = least_squares(form.X, form.y, form.table.weights)
    frame = _rows(form, fit)
    used = ~np.isnan(fit.coefficients)
    tests = _tests(form.X[:, used], form.y, fit)
    predicted = fit.intercept + whole.X[np.ix_(held, np.flatnonzero(used))] @ fit.coefficients[used]
    scores = _scores(whole.y[held], predicted, form.y, fit)
    far = int((frame["cooks_distance"] > FAR_COOK / max(len(form.y), 1)).sum())
    notes = [*form.notes, f"{far:,} rows with Cook's distance over 4 / n: influential"]
    if held.size:
        notes.append("RMSE is in the target's units and weighs large errors most; it does not show bias or where the errors occur")
    return Residuals(frame, tests, pd.DataFrame(scores).set_index("on"), tuple(notes), form, fit, whole.y[held], predicted)


def _rows(form: LinearForm, fit: LeastSquaresFit) -> pd.DataFrame:
    import pandas as pd

    h = np.minimum(fit.leverage, 1.0)
    with np.errstate(all="ignore"):
        inner = fit.residuals / (fit.sigma * np.sqrt(1 - h))
        studentised = inner * np.sqrt((fit.df - 1) / (fit.df - inner**2))
        cook = inner**2 * h / (1 - h) / (fit.rank + 1)
    return pd.DataFrame(
        {"fitted": fit.fitted, "residual": fit.residuals, "studentised": studentised, "leverage": h, "cooks_distance": cook},
        index=pd.Index(form.table.row_numbers, name="row"),
    )


def _tests(X: Floats, y: Floats, fit: LeastSquaresFit) -> pd.DataFrame:
    import pandas as pd

    n = y.size
    normal, skew, kurtosis = normality(fit.residuals)
    spread, fits = constant_variance(fit.residuals, X), lack_of_fit(y, fit.fitted, X)
    matters = abs(skew) > LARGE_SKEW or abs(kurtosis) > LARGE_KURTOSIS
    given = f"skewness {skew:.2f}, excess kurtosis {kurtosis:.2f}: " + ("not normal" if matters else "approximately normal")
    if n >= MANY and normal.p < 0.05 and not matters:
        given += "; with so many rows the test detects negligible departures"
    rows = [
        ("normality", normal.statistic, normal.df, normal.p, n, given if normal.p == normal.p else "needs 20 rows"),
        (
            "constant variance",
            spread.statistic,
            spread.df,
            spread.p,
            n,
            "the residual variance changes with the features: use errors='robust'"
            if spread.p < 0.05
            else "no evidence of changing variance",
        ),
        (
            "lack of fit",
            fits.statistic,
            fits.df,
            fits.p,
            n,
            "a linear form misses a curve or an interaction" if fits.p < 0.05 else "no evidence of non-linearity",
        ),
    ]
    return pd.DataFrame(rows, columns=["test", "statistic", "df", "p", "rows", "in_words"]).set_index("test")


def _scores(true: Floats, predicted: Floats, train: Floats, fit: LeastSquaresFit) -> list[dict[str, object]]:
    def one(on: str, y: Floats, e: Floats) -> dict[str, object]:
        around = float(((y - train.mean()) ** 2).sum())
        return {
            "on": on,
            "rows": y.size,
            "rmse": float(np.sqrt((e**2).mean())),
            "mae": float(np.abs(e).mean()),
            "mse": float((e**2).mean()),
            "r_squared": 1 - float((e**2).sum()) / around if around > 0 else float("nan"),
            "mean_error": float(e.mean()) if abs(e.mean()) > EXACT * np.abs(e).max(initial=0.0) else 0.0,
        }

    out = [one("training split", train, fit.residuals)]
    return [*out, one("validation split", true, true - predicted)] if true.size else out
