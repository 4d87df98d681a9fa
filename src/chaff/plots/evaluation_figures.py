"""Figures of the final model on holdout rows: predicted against true with its errors, class tables, calibration."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import UsageError
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, INK, KEEP, PAPER, QUIET, REVIEW, SECOND, dress, sequential, subtitle
from chaff.results.digits import count, figure

if TYPE_CHECKING:
    from chaff.methods.evaluation.evaluation import Evaluation

POINTS = 4000
WORST = 5
SETS = (("full", SECOND, (0, (4, 2))), ("kept", KEEP, "solid"))


@drawn_on("figure", 12.5)
def evaluated(result: Evaluation, threshold: float | None = None, *, figure: Any = None) -> None:
    """What fits the target: predicted against true with the residuals for a number, class table and calibration for classes.

    Parameters
    ----------
    result : Evaluation
        From `run.evaluate`.
    threshold : float, optional
        Of two classes: the share from which the positive one is said.

    Examples
    --------
    >>> import chaff
    >>> run = chaff.select(chaff.demo.table(rows=300), plan=chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
    >>> len(chaff.plots.evaluated(run.evaluate()).axes)
    2
    """
    _checked(result, "evaluated")
    left, right = figure.subplots(1, 2)
    if result.classes:
        confusion_table(result, threshold=threshold, ax=left)
        calibration_curve(result, ax=right)
    else:
        predicted_against_true(result, ax=left)
        residual_spread(result, ax=right)


@drawn_on("ax")
def predicted_against_true(result: Evaluation, *, ax: Any = None) -> None:
    """Predicted against true of the holdout rows with the kept set, the worst rows named.

    Examples
    --------
    >>> import chaff
    >>> run = chaff.select(chaff.demo.table(rows=300), plan=chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
    >>> chaff.plots.predicted_against_true(run.evaluate()).get_xlabel()
    'true loaf_volume (ml)'
    """
    _checked(result, "predicted_against_true")
    result.residuals()  # refused for classes
    true, predicted, unit = result.truth.targets[:, 0], result.predicted["kept"][:, 0], _unit(result)
    subset = _sampled_rows(true.size)
    ax.scatter(true[subset], predicted[subset], s=12, color=KEEP, alpha=0.55, linewidths=0)
    low, high = (float(f(np.concatenate([true, predicted]))) for f in (np.min, np.max))
    ax.plot([low, high], [low, high], color=INK, linewidth=1)
    worst = result.worst(WORST)
    ax.scatter(worst["true"], worst["predicted_kept"], s=60, facecolors="none", edgecolors=REVIEW, linewidths=1.5)
    for row, r in worst.iterrows():
        right = r["true"] > (low + high) / 2
        ax.annotate(f"row {row}", (r["true"], r["predicted_kept"]), xytext=(-6 if right else 6, 4), textcoords="offset points", fontsize=9,
                    color=REVIEW, ha="right" if right else "left")  # fmt: skip
    r2 = result.frame.loc["r2"] if "r2" in result.frame.index else None
    title = "Predicted against true, kept set" + (f": R² {figure(r2['kept'])}" if r2 is not None else "")
    dress(ax, title, f"true {result.table.target.name}{unit}", f"predicted{unit}")
    words = "line: predicted = true; ringed: largest losses"
    subtitle(ax, title, words if subset.size == true.size else f"{subset.size:,} of {true.size:,} rows; {words}")


@drawn_on("ax")
def residual_spread(result: Evaluation, *, ax: Any = None) -> None:
    """How far off the predictions are, full and kept set, in the target's unit.

    Examples
    --------
    >>> import chaff
    >>> run = chaff.select(chaff.demo.table(rows=300), plan=chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
    >>> chaff.plots.residual_spread(run.evaluate()).get_ylabel()
    'share of rows within'
    """
    _checked(result, "residual_spread")
    unit = _unit(result)
    for which, colour, style in (*SETS, ("nothing", DROP, "solid")):
        off, share = _share_within(result, which)
        ax.plot(
            off,
            share,
            color=colour,
            linestyle=style,
            linewidth=2 if which == "kept" else 1.6,
            label="baseline" if which == "nothing" else which,
        )
    off, share = _share_within(result, "kept")
    half = float(off[np.searchsorted(share, 0.5 - 1e-12)])
    ax.plot([half, half, 0], [0, 0.5, 0.5], color=QUIET, linewidth=0.9)
    ax.annotate(
        f"half of the rows within {figure(half)}{unit}", (half, 0.5), xytext=(8, -14), textcoords="offset points", fontsize=10, color=INK
    )
    title = "Absolute errors, full and kept set"
    dress(ax, title, f"|true − predicted|{unit}", "share of rows within")
    subtitle(ax, title, f"{result.rows:,} holdout rows, {result.model.label}")
    ax.set_ylim(0, 1.02)
    ax.set_xlim(left=0)
    ax.legend(loc="lower right", frameon=False, fontsize=10, labelcolor=INK)


def _share_within(result: Evaluation, which: str) -> tuple[Any, Any]:
    """(absolute errors ascending, share of the rows, by their weight, that are no further off)."""
    off = np.abs(result.residuals(which))
    order = np.argsort(off, kind="stable")
    w = np.ones(off.size) if result.table.weights is None else result.table.weights[order]
    return off[order], np.cumsum(w) / w.sum()


@drawn_on("ax")
def confusion_table(result: Evaluation, which: str = "kept", threshold: float | None = None, *, ax: Any = None) -> None:
    """Classes as they were against classes as they were said: counts, and shares of each true class.

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=300, target="accepted")
    >>> run = chaff.select(table, plan=chaff.Plan((chaff.Screen(), chaff.Search(model="logistic"))))
    >>> chaff.plots.confusion_table(run.evaluate(), threshold=0.3).get_xlabel()
    'predicted'
    """
    _checked(result, "confusion_table")
    counts, shares = result.confusion(which, threshold), result.confusion(which, threshold, shares=True)
    ax.imshow(shares.to_numpy(), cmap=sequential(), vmin=0, vmax=1, aspect="auto")
    n = len(result.classes)
    for i in range(n):
        for j in range(n):
            share = shares.iat[i, j]
            ax.text(j, i, f"{count(counts.iat[i, j])}\n{share:.0%}", ha="center", va="center", color=PAPER if share > 0.7 else INK,
                    fontsize=14 if n <= 4 else 9)  # fmt: skip
    positive = result.table.target.positive
    names = [f"{c} (positive)" if c == positive else c for c in result.classes]
    ax.set_xticks(range(n), names)
    ax.set_yticks(range(n), names)
    cut = f", threshold {threshold:g}" if threshold is not None else ""
    title = f"Confusion matrix{cut}, {which} set"
    dress(ax, title, "predicted", "actual")
    counted = "counts" if result.table.weights is None else "weighted counts"
    subtitle(ax, title, f"{counted}, and shares of each row; {result.rows:,} holdout rows, {result.model.label}")
    ax.grid(False)


@drawn_on("ax")
def calibration_curve(result: Evaluation, *, ax: Any = None) -> None:
    """Predicted shares against what came, with 95 % bounds: on the line the shares can be believed.

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=300, target="accepted")
    >>> run = chaff.select(table, plan=chaff.Plan((chaff.Screen(), chaff.Search(model="logistic"))))
    >>> chaff.plots.calibration_curve(run.evaluate()).get_ylabel()
    'observed share'
    """
    _checked(result, "calibration_curve")
    ax.plot([0, 1], [0, 1], color=QUIET, linewidth=1)
    if len(result.classes) == 2:
        lines: list[tuple[str, str, Any, str]] = [(w, c, s, result.classes[1]) for w, c, s in SETS]
    else:
        styles = ("solid", (0, (4, 2)), (0, (1, 1.5)))
        colours = (KEEP, SECOND, REVIEW, INK)
        lines = [("kept", colours[k % 4], styles[k % 3], c) for k, c in enumerate(result.classes)]
    for which, colour, style, name in lines:
        rows = result.calibration(which)
        rows = rows[rows["class"] == name]
        off = [rows["came"] - rows["came_low"], rows["came_high"] - rows["came"]]
        label = which if len(result.classes) == 2 else name
        if which == "kept":
            ax.errorbar(rows["predicted"], rows["came"], yerr=off, fmt="none", ecolor=colour, alpha=0.5, linewidth=1)
        ax.plot(rows["predicted"], rows["came"], color=colour, linestyle=style, marker="o", markersize=5, label=label)
    title = "Calibration" + (f" of '{result.classes[1]}'" if len(result.classes) == 2 else ", kept set")
    dress(ax, title, "predicted probability", "observed share")
    subtitle(ax, title, "bins of about equal rows; bars: 95 % CI; on the line: calibrated")
    ax.legend(loc="upper left", frameon=False, fontsize=10, labelcolor=INK)
    ax.set_xlim(-0.02, 1.02)
    ax.set_ylim(-0.02, 1.02)


def _unit(result: Evaluation) -> str:
    return f" ({result.table.target.unit})" if result.table.target.unit else ""


def _sampled_rows(rows: int) -> Any:
    return np.arange(rows) if rows <= POINTS else np.linspace(0, rows - 1, POINTS).astype(int)


def _checked(result: Any, name: str) -> None:
    if not hasattr(result, "predicted"):
        raise UsageError(f"{name} draws what run.evaluate() gave")
