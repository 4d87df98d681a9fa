"""What models say: ranked bars with their spread, the way of each coefficient, folds one by one, effects, disagreement."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np

from chaff.errors import UsageError
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, GRID, INK, KEEP, QUIET, REVIEW, SECOND, dress
from chaff.results.findings import Findings

BARS = 25
LINES = 8  # coefficients that are named along the path
PANELS = 6
POINTS = 600
TICKS = 12


@drawn_on("ax")
def importance_bars(findings: Findings, bars: int = BARS, *, ax: Any = None) -> None:
    """Draw the leading features of `chaff.importance` as bars, a whisker of one standard deviation over folds on each.

    Parameters
    ----------
    findings : Findings
    bars : int
        At most so many.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=100).with_features(["protein_pct", "ash_pct"])
    >>> found = chaff.importance(lots, "ridge", by="permutation")
    >>> chaff.plots.importance_bars(found).get_xlabel()
    'importance by permutation, ridge (whiskers: one standard deviation over folds)'
    """
    subset = findings.ranked().head(bars)
    places = np.arange(len(subset))[::-1]
    value, sd = subset["importance"].to_numpy(float), np.nan_to_num(subset["importance_sd"].to_numpy(float))
    ax.barh(places, value, height=0.66, color=[KEEP if s else DROP for s in _strong(subset)])
    ax.errorbar(value, places, xerr=sd, fmt="none", ecolor=INK, elinewidth=1.1, capsize=3)
    words = f"{len(subset)} of {len(findings.frame)} features" if len(subset) < len(findings.frame) else f"{len(subset)} features"
    text = _subtitle(subset)
    dress(ax, f"{words} by importance{text}", f"{_axis(findings)} (whiskers: one standard deviation over folds)", "")
    ax.set_yticks(places, [str(f) for f in subset.index])
    ax.grid(axis="y", visible=False)
    ax.axvline(0, color=QUIET, linewidth=0.8)


def _strong(subset: Any) -> list[bool]:
    """What is drawn in full colour: beyond chance, kept by the model, or all."""
    for column in ("significant", "kept"):
        if column in subset:
            return [bool(v) for v in subset[column]]
    return [True] * len(subset)


def _subtitle(subset: Any) -> str:
    names = {"significant": ", pale: not significant", "kept": ", pale: not in the model"}
    return next((words for column, words in names.items() if column in subset and not subset[column].all()), "")


def _axis(findings: Findings) -> str:
    model = findings.settings.get("model")
    label = model.get("name") if isinstance(model, dict) else model
    by = findings.settings.get("by", "")
    alone = by in ("split standing", "pooled")
    return f"importance by {by}" + ("" if alone or not label else f", {label}")


@drawn_on("figure")
def coefficient_path(findings: Findings, *, figure: Any = None) -> None:
    """Draw the coefficients of ``chaff.importance(table, "lasso", by="coefficient")`` along the penalty, and the loss on inner
    folds beneath; both chosen penalties are marked.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=150).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> found = chaff.importance(lots, "lasso", by=chaff.Coefficient(resamples=0))
    >>> len(chaff.plots.coefficient_path(found).axes)
    2
    """
    if "path" not in findings.more:
        raise UsageError("only a penalised model's coefficients have a path: lasso, elastic net or group lasso, by='coefficient'")
    path, scored = findings.more["path"], findings.more["penalties"]
    top, below = figure.subplots(2, 1, sharex=True, height_ratios=(3, 1))
    penalties = path.index.to_numpy(float)
    subset = np.isfinite(penalties) & (penalties > 0)
    penalties, path, scored = penalties[subset], path[subset], scored[subset]
    last = path.iloc[-1].abs().sort_values(ascending=False)
    at = path[scored["chosen"].to_numpy(bool)]
    named = list((at.iloc[0].abs() if len(at) else last).sort_values(ascending=False).index[:LINES])
    colours = [KEEP, SECOND, REVIEW, INK]
    for f in path.columns:
        k = named.index(f) if f in named else -1
        style: dict[str, Any] = {"color": GRID, "linewidth": 1}
        if k >= 0:
            style = {"color": colours[k % 4], "linewidth": 1.8, "linestyle": "-" if k < 4 else (0, (4, 2))}
        top.plot(penalties, path[f], zorder=3 if k >= 0 else 2, **style)
    _name_ends(top, path, penalties, named, colours)
    top.axhline(0, color=QUIET, linewidth=0.8)
    dress(top, f"Coefficients along the penalty: {_in_words(scored)}", "", "per standard deviation of the column")
    top.set_xscale("log")
    top.set_xlim(penalties.max(), penalties.min())
    if "loss" in scored:
        loss, se = scored["loss"].to_numpy(float), np.nan_to_num(scored["loss_se"].to_numpy(float))
        below.fill_between(penalties, loss - se, loss + se, color=GRID)
        below.plot(penalties, loss, color=INK, linewidth=1.4)
        for column, colour, line in (("best", KEEP, "-"), ("one_standard_error", REVIEW, (0, (4, 2)))):
            for ax in (top, below):
                ax.axvline(float(penalties[scored[column].to_numpy(bool)][0]), color=colour, linewidth=1.2, linestyle=line)
    dress(below, "", "penalty, smaller to the right (solid: lowest loss; dashed: within one standard error)", "loss, inner folds")


def _in_words(scored: Any) -> str:
    at = scored[scored["chosen"].to_numpy(bool)]
    return f"{int(at['features'].iloc[0])} of {int(scored['features'].max())} that enter are in at the chosen one" if len(at) else ""


def _name_ends(ax: Any, path: Any, penalties: Any, named: list[str], colours: list[str]) -> None:
    """Names at the right end, moved apart so that none lies over another."""
    ends = np.array([float(path[f].iloc[-1]) for f in named])
    span = float(np.ptp(path.to_numpy())) or 1.0
    order = np.argsort(ends)
    placed = ends.copy()
    for before, k in pairwise(order):
        placed[k] = max(placed[k], placed[before] + 0.055 * span)
    for k, f in enumerate(named):
        ax.annotate(
            f, (penalties.min(), ends[k]), xytext=(1.01, placed[k]), textcoords=("axes fraction", "data"), fontsize=8.5,
            color=colours[k % 4], va="center", annotation_clip=False,
        )  # fmt: skip


@drawn_on("ax")
def fold_spread(findings: Findings, bars: int = BARS, *, ax: Any = None) -> None:
    """Draw every feature's importance in each fold as a dot, its mean as a line: whether folds agree.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=100).with_features(["protein_pct", "ash_pct"])
    >>> chaff.plots.fold_spread(chaff.importance(lots, "ridge", by="permutation")).get_ylabel()
    ''
    """
    if "by_fold" not in findings.more:
        raise UsageError("these findings have no folds")
    subset = findings.ranked().head(bars)
    folds = findings.more["by_fold"].loc[subset.index].to_numpy(float)
    places = np.arange(len(subset))[::-1]
    strong = _strong(subset)
    for k, place in enumerate(places):
        colour = KEEP if strong[k] else DROP
        ax.hlines(place, folds[k].min(), folds[k].max(), color=GRID, linewidth=3)
        ax.scatter(folds[k], np.full(folds.shape[1], place), s=24, color=colour, alpha=0.75, linewidths=0, zorder=3)
        ax.plot([subset["importance"].iloc[k]] * 2, [place - 0.3, place + 0.3], color=INK, linewidth=1.6, zorder=4)
    ax.axvline(0, color=QUIET, linewidth=0.8)
    dress(ax, f"Importance in each of {folds.shape[1]} folds, the mean as a line{_subtitle(subset)}", _axis(findings), "")
    ax.set_yticks(places, [str(f) for f in subset.index])
    ax.grid(axis="y", visible=False)


@drawn_on("figure")
def effects(findings: Findings, panels: int = PANELS, *, figure: Any = None) -> None:
    """Draw the effect of each leading feature against its value, from ``chaff.importance(…, by="shapley")``.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=100).with_features(["protein_pct", "ash_pct"])
    >>> found = chaff.importance(lots, "ridge", by=chaff.Shapley(rows=50))
    >>> [ax.get_xlabel() for ax in chaff.plots.effects(found).axes]
    ['protein_pct', 'ash_pct']
    """
    if "effects" not in findings.more:
        raise UsageError("only Shapley values have effects to draw: by='shapley'")
    names = [str(f) for f in findings.ranked().index[:panels]]
    shown, values = findings.more["effects"], findings.more["values"]
    across = min(3, len(names))
    axes = np.atleast_1d(figure.subplots(-(-len(names) // across), across, sharey=True, squeeze=False)).ravel()
    for ax, f in zip(axes, names, strict=False):
        x, y = _places(ax, values[f])[:POINTS], shown[f].to_numpy(float)[:POINTS]
        there = ~np.isnan(x)
        ax.axhline(0, color=QUIET, linewidth=0.8)
        ax.scatter(x[there], y[there], s=12, color=KEEP, alpha=0.55, linewidths=0)
        if (~there).any() and there.any():
            left = x[there].min() - 0.08 * (np.ptp(x[there]) or 1.0)
            ax.scatter(np.full(int((~there).sum()), left), y[~there], s=14, marker="x", color=SECOND, linewidths=1)
            ax.annotate("missing", (left, 0.02), xycoords=("data", "axes fraction"), fontsize=8, color=SECOND, ha="center")
        direction = float(findings.frame.loc[f, "direction"])
        dress(ax, "", f, "")
        ax.set_title("" if np.isnan(direction) else _direction(direction), loc="left", fontsize=10, color=QUIET, fontweight="normal", pad=6)
    for ax in axes[len(names) :]:
        ax.set_visible(False)
    for ax in axes[::across]:
        ax.set_ylabel("effect on the prediction", color=INK, fontsize=10)
    figure.suptitle("Effect of a value on the prediction, test-fold rows", x=0.01, ha="left", color=INK, fontsize=13, fontweight="bold")


def _places(ax: Any, values: Any) -> Any:
    """Where values stand: numbers where they are, levels side by side in the order of their names."""
    if values.dtype.kind in "fiu":
        return values.to_numpy(float)
    levels = sorted(set(values.dropna()))
    subset = levels if len(levels) <= TICKS else []
    ax.set_xticks(
        range(len(subset)), subset, rotation=35 if len(subset) > 3 else 0, ha="right" if len(subset) > 3 else "center", fontsize=8
    )
    return values.map({v: k for k, v in enumerate(levels)}).to_numpy(float)


def _direction(direction: float) -> str:
    word = "the higher, the more" if direction > 0.5 else "the higher, the less" if direction < -0.5 else "no single direction"
    return f"{word} ({direction:+.2f})"


@drawn_on("ax")
def disagreement(findings: Findings, bars: int = 15, *, ax: Any = None) -> None:
    """Draw where each model and way puts the leading features, from ``chaff.importance(…, by="pooled")``.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=100).with_features(["protein_pct", "ash_pct"])
    >>> found = chaff.importance(lots, "tree", by=chaff.Pooled(models=["ridge"]))
    >>> len(chaff.plots.disagreement(found).get_legend().get_texts())
    3
    """
    if "parts" not in findings.more:
        raise UsageError("only pooled importance has parts to disagree: by='pooled'")
    subset = findings.ranked().head(bars)
    parts, weights = findings.more["parts"].loc[subset.index], findings.more["weights"]["weight"]
    places = np.arange(len(subset))[::-1]
    rows = parts.to_numpy(float)
    ax.hlines(places, rows.min(1), rows.max(1), color=GRID, linewidth=5)
    marks, colours = "osD^vP", [KEEP, SECOND, REVIEW, QUIET]
    for k, part in enumerate(parts.columns):
        away = 0.12 * (k - (len(parts.columns) - 1) / 2)
        ax.scatter(
            rows[:, k],
            places + away,
            marker=marks[k % 6],
            s=34,
            color=colours[k % 4],
            zorder=3,
            label=f"{part} (weight {weights[part]:.2f})",
        )  # fmt: skip
    ax.scatter(subset["importance"], places, marker="|", s=260, color=INK, linewidths=2, zorder=4, label="pooled")
    widest = subset["spread"].astype(float).idxmax()
    dress(ax, f"Rank of each feature by model and way; largest disagreement: {widest}", "rank (1 = best)", "")
    if findings.settings.get("scale") == "shares":
        ax.set_xlabel("share of the total", color=INK, fontsize=11)
    ax.set_yticks(places, [str(f) for f in subset.index])
    ax.grid(axis="y", visible=False)
    ax.legend(loc="upper center", bbox_to_anchor=(0.4, -0.1), ncol=3, fontsize=9, frameon=False)


def close_up(findings: Findings) -> Any:
    """The figure of a way's own: path, effects, disagreement, or folds one by one."""
    for frame, draw in (("path", coefficient_path), ("effects", effects), ("parts", disagreement)):
        if frame in findings.more:
            return draw(findings)
    return fold_spread(findings)
