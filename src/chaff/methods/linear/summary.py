"""The regression summary: least squares for a number, logistic for two classes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from chaff.errors import UsageError
from chaff.methods.linear.linear_form import LinearForm, commonest_level, linear_form
from chaff.stats.dependence import directions
from chaff.stats.linear_model import LeastSquaresFit, LogisticModelFit, least_squares, logistic, t_interval
from chaff.table.table import Table
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd

LARGE_CONDITION = 30.0
ERRORS = {"plain": "plain", "robust": "robust (HC3)", "groups": "clustered by group"}


@dataclass(frozen=True, repr=False)
class LinearSummary(Shown):
    """A regression summary as frames and figures.

    `frame` has one row a coefficient: coefficient, standardised, standard_error, t (z), p, low, high, vif (odds_ratio), in_words.
    """

    frame: pd.DataFrame
    figures: dict[str, float]
    """r_squared, adjusted_r_squared, f, f_p, aic, bic, log_likelihood, residual_sd, condition, rows, df; or deviance …"""
    equation: str
    notes: tuple[str, ...]
    form: LinearForm = field(repr=False)
    fit: LeastSquaresFit | LogisticModelFit = field(repr=False)

    def __str__(self) -> str:
        shown = self.frame.drop(columns="in_words").to_string(float_format="{:.4g}".format)
        figures = " · ".join(f"{k.replace('_', ' ')} {v:.4g}" for k, v in self.figures.items() if v == v)
        return "\n".join([shown, figures, self.equation, *self.notes])


def linear_summary(
    table: Table, features: Sequence[str] | None = None, *, intercept: bool = True, errors: str = "plain", confidence: float = 0.95
) -> LinearSummary:
    """Fit a linear model of the features and say all of it: coefficients in units and standardised, errors, p, VIF, fit.

    Parameters
    ----------
    table : Table
        A number target gives least squares; two classes give logistic regression for the positive class.
    features : list of str, optional
        All that a linear form can take when left out.
    intercept : bool
        Without one R² is uncentred and is labelled so: it must not be compared with the other.
    errors : "plain", "robust" or "groups"
        HC3, or clustered by the table's groups; least squares only.
    confidence : float
        Confidence of the intervals.

    Returns
    -------
    LinearSummary

    Raises
    ------
    UsageError, DataError

    Notes
    -----
    Complete rows; least squares by QR of the rows with refinement, accurate for ill-conditioned columns too. A column that is a
    combination of earlier ones gets no coefficient, and is named. p-values hold for columns chosen beforehand: after selection
    they are optimistic (see `chaff.prune_linear`). AIC and BIC count σ².

    Examples
    --------
    >>> import chaff
    >>> said = chaff.linear_summary(chaff.demo.table(), ["protein_pct", "ash_pct"])
    >>> print(said.frame.loc["protein_pct", "in_words"])
    +1 % protein_pct → +12.5 ml
    """
    if errors not in ERRORS:
        raise UsageError(f"errors must be one of {', '.join(ERRORS)}, not '{errors}'")
    if errors == "groups" and table.groups is None:
        raise UsageError("errors='groups' needs a table opened with groups=…")
    if not 0 < confidence < 1:
        raise UsageError(f"confidence must be between 0 and 1, not {confidence}")
    if table.target.task == "classification":
        return _logistic_summary(table, features, confidence)
    form = linear_form(table, features)
    groups = form.table.groups if errors == "groups" else None
    fit = least_squares(form.X, form.y, form.table.weights, intercept, errors, groups)
    return LinearSummary(
        _coefficients(form, fit, intercept, confidence),
        _figures(form, fit, intercept),
        _equation(form, fit, intercept),
        _notes(form, fit, intercept, errors),
        form,
        fit,
    )


def _coefficients(form: LinearForm, fit: LeastSquaresFit, intercept: bool, confidence: float) -> pd.DataFrame:
    import pandas as pd

    t, p, low, high = t_interval(fit.coefficients, fit.errors, fit.df, confidence)
    spread = form.y.std()
    standardised = fit.coefficients * form.X.std(0) / spread if spread > 0 else fit.coefficients * np.nan
    frame = pd.DataFrame(
        {
            "coefficient": fit.coefficients,
            "standardised": standardised,
            "standard_error": fit.errors,
            "t": t,
            "p": p,
            "low": low,
            "high": high,
            "vif": fit.vif,
        },
        index=pd.Index(form.columns, name="column"),
    )
    frame["in_words"] = [_in_words(form, k, b) for k, b in enumerate(fit.coefficients)]
    if not intercept:
        return frame
    it, ip, il, ih = t_interval(np.array([fit.intercept]), np.array([fit.intercept_error]), fit.df, confidence)
    first = pd.DataFrame(
        {
            "coefficient": fit.intercept,
            "standardised": np.nan,
            "standard_error": fit.intercept_error,
            "t": it,
            "p": ip,
            "low": il,
            "high": ih,
            "vif": np.nan,
            "in_words": "",
        },
        index=pd.Index(["(intercept)"], name="column"),
    )
    return pd.concat([first, frame])


def _in_words(form: LinearForm, column: int, b: float) -> str:
    """`one more % of protein_pct, all else equal: +11.3 ml`."""
    if b != b:
        return "a combination of earlier columns: no coefficient of its own"
    unit = f" {form.table.target.unit}" if form.table.target.unit else f" {form.table.target.name}"
    return f"{_step(form, column)} → {b:+.3g}{unit}"


def _step(form: LinearForm, column: int) -> str:
    feature, level = form.features[int(form.owner[column])], form.level_of(column)
    if level:
        return f"{feature} {level} instead of {commonest_level(form.table, feature)}"
    kind, unit = form.table.kind(feature), form.table.meaning(feature).unit
    if kind == "binary":
        levels = form.table.levels(feature)
        return f"{feature} {levels[1]} instead of {levels[0]}" if len(levels) == 2 else f"{feature} set"
    return f"+1 {unit} {feature}" if unit else f"+1 {feature}"


def _figures(form: LinearForm, fit: LeastSquaresFit, intercept: bool) -> dict[str, float]:
    return {
        ("r_squared" if intercept else "uncentred_r_squared"): fit.r_squared,
        "adjusted_r_squared": fit.adjusted if intercept else float("nan"),
        "f": fit.f,
        "f_p": fit.f_p,
        "residual_sd": fit.sigma,
        "aic": fit.aic,
        "bic": fit.bic,
        "log_likelihood": fit.log_likelihood,
        "condition": fit.condition,
        "rows": float(form.y.size),
        "df": float(fit.df),
    }


def _equation(form: LinearForm, fit: LeastSquaresFit, intercept: bool) -> str:
    text = f"{form.table.target.name} = " + (f"{fit.intercept:.4g}" if intercept else "")
    for k, (column, b) in enumerate(zip(form.columns, fit.coefficients, strict=True)):
        if b == b:
            text += f" {'+' if b >= 0 else '-'} {abs(b):.4g} × {f'({column})' if form.level_of(k) else column}"
    return text


def _notes(form: LinearForm, fit: LeastSquaresFit, intercept: bool, errors: str) -> tuple[str, ...]:
    notes = list(form.notes)
    if errors != "plain":
        notes.append(f"standard errors {ERRORS[errors]}")
    if not intercept:
        notes.append("no intercept: R² is about zero, not about the mean, and must not be compared with one that is")
    aliased = [c for c, b in zip(form.columns, fit.coefficients, strict=True) if b != b]
    if aliased:
        notes.append(f"no coefficient, being combinations of earlier columns: {', '.join(aliased[:5])}; chaff.dependencies writes them out")
    if fit.condition > LARGE_CONDITION:
        notes.append(f"condition number {fit.condition:.3g}: {_culprit(form, fit)}")
    if fit.df <= 0:
        notes.append("as many coefficients as rows: a perfect fit without information")
    return tuple(notes)


def _culprit(form: LinearForm, fit: LeastSquaresFit) -> str:
    """The columns that load on the worst direction."""
    used = np.flatnonzero(~np.isnan(fit.coefficients))
    worst = directions(form.X[:, used], centred=True).proportions[-1]
    loading = [form.columns[used[k]] for k in np.argsort(-worst, kind="stable") if worst[k] > 0.5] or [
        form.columns[used[int(worst.argmax())]]
    ]
    return f"{' and '.join(loading[:4])} {'is' if len(loading) == 1 else 'are'} collinear; the coefficients are poorly determined"


def _logistic_summary(table: Table, features: Sequence[str] | None, confidence: float) -> LinearSummary:
    import pandas as pd
    from scipy.special import ndtri

    if len(table.target.classes) != 2:
        raise UsageError(
            f"target '{table.target.name}' has {len(table.target.classes)} classes; a linear summary takes a number or two classes"
        )
    form = linear_form(table, features, "classification")
    fit = logistic(form.X, form.y, form.table.weights)
    half = ndtri(0.5 + confidence / 2) * fit.errors
    low, high = fit.coefficients - half, fit.coefficients + half
    spread = np.concatenate([[np.nan], form.X.std(0)])
    with np.errstate(over="ignore"):
        frame = pd.DataFrame(
            {
                "coefficient": fit.coefficients,
                "standardised": fit.coefficients * spread,
                "standard_error": fit.errors,
                "z": fit.z,
                "p": fit.p,
                "low": low,
                "high": high,
                "odds_ratio": np.exp(fit.coefficients),
            },
            index=pd.Index(["(intercept)", *form.columns], name="column"),
        )
    positive = table.target.positive
    frame["in_words"] = [
        "",
        *[f"{_step(form, k)} → odds of '{positive}' × {np.exp(min(b, 700)):.3g}" for k, b in enumerate(fit.coefficients[1:])],
    ]
    notes = list(form.notes)
    if fit.separated and not fit.complete:
        names = [form.columns[k] for k in fit.runaway]
        frame.loc[names, ["standard_error", "z", "p", "low", "high"]] = np.nan
        notes.append(
            f"quasi-complete separation: {', '.join(names[:3])} separate{'s' * (len(names) == 1)} some rows perfectly, so "
            "no finite estimate of it exists and no error, z or p is given; the others' are those of the rows that are left"
        )
    elif fit.separated:
        frame.loc[:, ["standard_error", "z", "p", "low", "high"]] = np.nan
        notes.append(
            "the classes are perfectly separated by a combination of features: no finite estimate exists, and no SE, z or p "
            "is given. Leave out the feature that determines the class"
        )
    n, count = form.y.size, form.X.shape[1] + 1
    figures = {
        "deviance": fit.deviance,
        "null_deviance": fit.null_deviance,
        "pseudo_r_squared": 1 - fit.deviance / fit.null_deviance,
        "aic": fit.deviance + 2 * count,
        "bic": fit.deviance + np.log(n) * count,
        "rows": float(n),
        "df": float(n - count),
    }
    terms = "".join(f" {'+' if b >= 0 else '-'} {abs(b):.4g} × {c}" for c, b in zip(form.columns, fit.coefficients[1:], strict=True))
    equation = f"log odds of {table.target.name} = '{positive}': {fit.coefficients[0]:.4g}{terms}"
    return LinearSummary(frame, figures, equation, tuple(notes), form, fit)
