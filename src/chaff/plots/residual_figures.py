"""Residuals four ways, against each kept column, and predicted against true on the holdout."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.methods.linear.checks import Residuals
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, INK, KEEP, QUIET, REVIEW, SECOND, dress

POINTS = 4000
PANELS = 12


@drawn_on("figure")
def residual_checks(checked: Residuals, *, figure: Any = None) -> None:
    """Histogram with the normal curve, residuals against fitted, normal quantiles, and leverage with influence.

    Parameters
    ----------
    checked : Residuals
        Of `chaff.residuals`.

    Examples
    --------
    >>> import chaff
    >>> len(chaff.plots.residual_checks(chaff.residuals(chaff.demo.table(rows=100), ["protein_pct"])).axes)
    4
    """
    from scipy.special import ndtri

    (a, b), (c, d) = figure.subplots(2, 2)
    frame, tests = checked.frame, checked.tests
    e, fitted = frame["residual"].to_numpy(float), frame["fitted"].to_numpy(float)
    unit = checked.form.table.target.unit
    label = f"residual ({unit})" if unit else "residual"
    n, sd = e.size, float(e.std()) or 1.0
    a.hist(e, bins=min(40, max(8, int(np.sqrt(n)))), color=DROP, density=True)
    grid = np.linspace(e.min(), e.max(), 200)
    a.plot(grid, np.exp(-0.5 * ((grid - e.mean()) / sd) ** 2) / (sd * np.sqrt(2 * np.pi)), color=KEEP, linewidth=2)
    dress(a, f"Residuals and the normal curve: p {_p(tests.loc['normality', 'p'])}", label, "density")
    subset = np.arange(n) if n <= POINTS else np.linspace(0, n - 1, POINTS).astype(int)
    b.scatter(fitted[subset], e[subset], s=9, color=DROP, alpha=0.7, linewidths=0)
    _course(b, fitted, e)
    b.axhline(0, color=QUIET, linewidth=1)
    dress(
        b,
        f"Against fitted: spread p {_p(tests.loc['constant variance', 'p'])}, fit p {_p(tests.loc['lack of fit', 'p'])}",
        "fitted" + (f" ({unit})" if unit else ""),
        label,
    )
    s = np.sort(frame["studentised"].to_numpy(float))
    s = s[np.isfinite(s)]
    q = ndtri((np.arange(1, s.size + 1) - 0.375) / (s.size + 0.25))
    c.plot(q, q, color=KEEP, linewidth=1.6)
    c.scatter(q, s, s=9, color=DROP, linewidths=0)
    dress(c, "Normal quantiles", "normal quantile", "studentised residual")
    h, cook = frame["leverage"].to_numpy(float), frame["cooks_distance"].to_numpy(float)
    far = cook > 4.0 / n
    d.scatter(h[~far], frame["studentised"].to_numpy(float)[~far], s=9, color=DROP, linewidths=0)
    d.scatter(h[far], frame["studentised"].to_numpy(float)[far], s=22, color=REVIEW, marker="^", linewidths=0)
    for k in np.argsort(-np.nan_to_num(cook))[:3]:
        d.annotate(
            f"row {frame.index[k]}",
            (h[k], frame["studentised"].iloc[k]),
            xytext=(5, 3),
            textcoords="offset points",
            fontsize=8.5,
            color=REVIEW,
        )
    dress(d, f"Plum: {int(far.sum())} rows with Cook's distance over 4 / n", "leverage", "studentised residual")
    for ax in (a, b, c, d):
        ax.title.set_fontsize(10.5)
        ax.set_title(ax.get_title(loc="left"), loc="left", fontsize=10.5, fontweight="bold", color=INK, pad=8)
        ax.tick_params(labelsize=8.5)


def _p(value: float) -> str:
    return "unknown" if value != value else "< 1e-16" if value < 1e-16 else f"{value:.2g}"


def _course(ax: Any, x: Any, y: Any) -> None:
    order = np.argsort(x, kind="stable")
    bands = [band for band in np.array_split(order, min(12, max(x.size // 15, 1))) if band.size]
    ax.plot([np.median(x[k]) for k in bands], [y[k].mean() for k in bands], color=KEEP, linewidth=2, marker="o", markersize=4)


@drawn_on("figure")
def residuals_by_feature(checked: Residuals, *, figure: Any = None) -> None:
    """Residuals against each kept column (the first 12), with their means in bands: a bend there is what the line misses.

    Examples
    --------
    >>> import chaff
    >>> figure = chaff.plots.residuals_by_feature(chaff.residuals(chaff.demo.table(rows=100), ["protein_pct", "ash_pct"]))
    >>> len(figure.axes)
    2
    """
    names = checked.form.columns[:PANELS]
    across = int(np.clip(np.ceil(np.sqrt(len(names))), 1, 4))
    axes = figure.subplots(int(np.ceil(len(names) / across)), across, squeeze=False).ravel()
    e = checked.frame["residual"].to_numpy(float)
    for k, (ax, name) in enumerate(zip(axes, names, strict=False)):
        x = checked.form.X[:, k]
        subset = np.arange(x.size) if x.size <= POINTS else np.linspace(0, x.size - 1, POINTS).astype(int)
        ax.scatter(x[subset], e[subset], s=6, color=DROP, alpha=0.6, linewidths=0)
        _course(ax, x, e)
        ax.axhline(0, color=QUIET, linewidth=0.8)
        dress(ax, "", "", "")
        ax.set_title(name, loc="left", fontsize=9.5, color=INK, pad=4)
        ax.tick_params(labelsize=8)
    for ax in axes[len(names) :]:
        figure.delaxes(ax)
    more = f", {len(names)} of {len(checked.form.columns)}" if len(checked.form.columns) > len(names) else ""
    figure.suptitle(
        f"Residuals against each column{more}: a bend is what a straight line misses",
        x=0.01,
        ha="left",
        fontsize=13,
        fontweight="bold",
        color=INK,
    )


@drawn_on("ax")
def predicted_true(checked: Residuals, *, ax: Any = None) -> None:
    """Predicted against true on the holdout, with its scores in the target's own units.

    Examples
    --------
    >>> import chaff
    >>> ax = chaff.plots.predicted_true(chaff.residuals(chaff.demo.table(rows=100), ["protein_pct"]))
    >>> "validation" in ax.get_title(loc="left")
    True
    """
    from chaff.errors import UsageError

    if not checked.true.size:
        raise UsageError("no rows were held out: call chaff.residuals with holdout above 0")
    true, predicted = checked.true, checked.predicted
    low, high = float(min(true.min(), predicted.min())), float(max(true.max(), predicted.max()))
    ax.plot([low, high], [low, high], color=KEEP, linewidth=1.6)
    ax.scatter(predicted, true, s=16, color=DROP, linewidths=0, alpha=0.85)
    target = checked.form.table.target
    unit = f" {target.unit}" if target.unit else ""
    row = checked.holdout.loc["validation split"]
    dress(
        ax,
        f"On the validation split, {true.size:,} rows: RMSE {row['rmse']:.3g}{unit}, MAE {row['mae']:.3g}{unit}, R² {row['r_squared']:.3f}",
        f"predicted {target.name}{f' ({target.unit})' if target.unit else ''}",
        f"true {target.name}{f' ({target.unit})' if target.unit else ''}",
    )
    ax.annotate("predicted = true", (high, high), xytext=(-8, -14), textcoords="offset points", ha="right", color=KEEP, fontsize=10)
    if abs(row["mean_error"]) > 0.05 * row["rmse"]:
        words = f"on average {abs(row['mean_error']):.3g}{unit} {'too low' if row['mean_error'] > 0 else 'too high'}"
        ax.annotate(words, (0.01, 0.97), xycoords="axes fraction", va="top", color=SECOND, fontsize=10)
