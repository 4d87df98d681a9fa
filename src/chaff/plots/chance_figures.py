"""What chance alone would give: the band of shuffles, rounds of permuted twins, shares over half-samples, decoys among the columns."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.errors import UsageError
from chaff.plots.drawn_on import drawn_on
from chaff.plots.palette import DROP, GRID, INK, KEEP, QUIET, REVIEW, SECOND, dress
from chaff.results.findings import Findings

BARS = 25
NAMED = 10
FAR_APART = 15.0  # largest over smallest value from which an axis is logarithmic
COLOURS = {"keep": KEEP, "drop": DROP, "review": REVIEW}


@drawn_on("ax")
def chance_band(findings: Findings, bars: int = BARS, *, ax: Any = None) -> None:
    """Draw the leading features of ``chaff.chance_baseline`` against the band that their shuffles gave, with the limit.

    Parameters
    ----------
    findings : Findings
    bars : int
        At most so many.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=100).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> chaff.plots.chance_band(chaff.chance_baseline(lots)).get_xlabel()
    'split standing, real (dot) and over 50 permutations (band: mean to largest)'
    """
    _need(findings, "chance")
    subset = findings.ranked()
    subset = subset[subset["standard_score"].notna()].head(bars)
    if subset.empty:
        raise UsageError("no feature has a value against chance: there is nothing to draw")
    places = np.arange(len(subset))[::-1]
    mean, largest, sd = (subset[c].to_numpy(float) for c in ("chance_mean", "chance_largest", "chance_sd"))
    real = subset["importance"].to_numpy(float)
    ax.barh(places, largest - mean, left=mean, height=0.7, color=GRID)
    keep = findings.settings.get("keep") or {}
    if "standard_deviations" in keep:
        ax.vlines(mean + keep["standard_deviations"] * sd, places - 0.36, places + 0.36, color=SECOND, linewidth=1.6)
    spread = np.nan_to_num(subset["importance_sd"].to_numpy(float))
    colours = [COLOURS[v] for v in subset["verdict"]]
    ax.errorbar(real, places, xerr=spread, fmt="none", ecolor=INK, elinewidth=1.0, capsize=2)
    ax.scatter(real, places, s=46, color=colours, zorder=3)
    _maybe_log(ax, [real, largest, mean])
    kept = int((findings.frame["verdict"] == "keep").sum())
    limit = f" (line: {keep['standard_deviations']:g} standard deviations)" if "standard_deviations" in keep else ""
    dress(ax, f"{kept} of {len(findings.frame)} features are significant{limit}", _chance_axis(findings), "")
    _name(ax, places, subset)


def _chance_axis(findings: Findings) -> str:
    return f"{findings.settings['by']}, real (dot) and over {findings.settings['shuffles']} permutations (band: mean to largest)"


@drawn_on("ax")
def twin_rounds(findings: Findings, named: int = NAMED, *, ax: Any = None) -> None:
    """Draw what each column of ``chaff.twin_test`` was worth round by round, and the band of the twins.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=150).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> found = chaff.twin_test(lots, chaff.Forest(trees=20), rounds=8, keep_share=0.5)
    >>> chaff.plots.twin_rounds(found).get_xlabel()
    'round (band: permuted copies; line: threshold, the best permuted copy)'
    """
    _need(findings, "twins")
    history, twins, frame = findings.more["history"], findings.more["twins"], findings.ranked()
    rounds = history.index.to_numpy(int)
    values = [history[f].to_numpy(float) for f in frame.index]
    low = (
        min(1.0, float(np.nanmedian(twins["median"])))
        if (np.concatenate(values)[np.isfinite(np.concatenate(values))] > 0).mean() > 0.5
        else None
    )
    ax.fill_between(rounds, twins["least"], twins["best"], color=GRID, label="twins", zorder=1)
    ax.plot(rounds, twins["limit"], color=SECOND, linewidth=2.0, zorder=4)
    names = [str(f) for f in frame.index if frame.loc[f, "verdict"] != "drop"][:named]
    for f, v in zip(frame.index, values, strict=True):
        strong = str(f) in names
        colour = COLOURS[frame.loc[f, "verdict"]]
        ax.plot(rounds, v, color=colour, linewidth=1.6 if strong else 0.7, alpha=1.0 if strong else 0.6, zorder=3 if strong else 2)
    top = max((float(np.nanmax(v)) for v in values if np.isfinite(v).any()), default=1.0)
    if low is not None and top > FAR_APART:
        ax.set_yscale("symlog", linthresh=1.0)
    count = {v: int((frame["verdict"] == v).sum()) for v in ("keep", "review", "drop")}
    words = f"{count['keep']} kept, {count['review']} undecided, {count['drop']} dropped"
    dress(
        ax, f"Importance against permuted copies: {words}", "round (band: permuted copies; line: threshold, the best permuted copy)",
        "importance, in units of the feature's own permuted copies",
    )  # fmt: skip
    ax.set_xlim(rounds[0], max(rounds[-1], rounds[0] + 1))
    _name_ends(ax, history, names, frame)


def _name_ends(ax: Any, history: Any, names: list[str], frame: Any) -> None:
    """Names at the right end, moved apart so that none lies over another."""
    ax.set_ylim(*ax.get_ylim())  # places on the axes are final from here
    ends = sorted([(float(history[f].dropna().iloc[-1]), f) for f in names])
    there = [float(ax.transAxes.inverted().transform(ax.transData.transform((0.0, y)))[1]) for y, _ in ends]
    places: list[float] = []
    for k in range(len(ends) - 1, -1, -1):  # from the top down
        places.insert(0, min(there[k], places[0] - 0.045 if places else 0.98))
    for at, (_, f) in zip(places, ends, strict=True):
        end = history[f].dropna()
        ax.annotate(
            f, (end.index[-1], end.iloc[-1]), xytext=(1.02, at), textcoords="axes fraction", fontsize=9,
            color=COLOURS[frame.loc[f, "verdict"]], va="center", annotation_clip=False,
            arrowprops={"arrowstyle": "-", "color": GRID, "linewidth": 0.8},
        )  # fmt: skip


@drawn_on("ax")
def stability_shares(findings: Findings, bars: int = BARS, *, ax: Any = None) -> None:
    """Draw in which share of the halves ``chaff.stability`` saw each column chosen, with the threshold and what it allows.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=100).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> found = chaff.stability(lots, chaff.Relevance(["pearson_r"], by="pearson_r"), size=1, pairs=5)
    >>> chaff.plots.stability_shares(found).get_xlabel()
    'selection frequency over 10 half-samples, size 1'
    """
    _need(findings, "stability")
    subset = findings.ranked()
    subset = subset[subset["selection_frequency"] > 0].head(bars)
    places = np.arange(len(subset))[::-1]
    s = findings.settings
    ax.barh(places, subset["selection_frequency"], height=0.66, color=[COLOURS[v] for v in subset["verdict"]])
    for place, (_, r) in zip(places, subset.iterrows(), strict=True):
        words = f"{r['selection_frequency']:.2f}" + (
            f"  interchangeable with {r['interchangeable_with']}" if r["interchangeable_with"] else ""
        )
        ax.annotate(
            words, (r["selection_frequency"], place), xytext=(5, 0), textcoords="offset points", fontsize=8.5, va="center", color=QUIET
        )
    ax.axvline(s["threshold"], color=SECOND, linewidth=1.8)
    mean = s["size"] / len(findings.frame)
    ax.axvline(mean, color=QUIET, linewidth=1.0, linestyle=(0, (4, 2)))
    kept = int((findings.frame["verdict"] == "keep").sum())
    bound = s["accidental_at_most"]
    dress(
        ax, f"{kept} features in at least {s['threshold']:g} of the half-samples, at most {bound:.2g} false selections expected",
        f"selection frequency over {2 * s['pairs']} half-samples, size {s['size']}", "",
    )  # fmt: skip
    ax.annotate("average selection rate", (mean, -0.9), fontsize=8.5, color=QUIET, ha="left", xytext=(4, 0), textcoords="offset points")
    ax.set_xlim(0, 1.12)
    _name(ax, places, subset)


@drawn_on("ax")
def decoys_among(findings: Findings, bars: int = 40, *, ax: Any = None) -> None:
    """Draw the leading features of any findings with their decoys marked: where columns begin that are no better than noise.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=100).with_features(["protein_pct", "ash_pct"]).with_decoys(2)
    >>> found = chaff.relevance(lots, "leading")
    >>> chaff.plots.decoys_among(found).get_title(loc="left")
    'Decoys (hatched) among 4 features: 2 stand above the best of them'
    """
    ranked = findings.ranked()
    names = [str(f) for f in ranked.index]
    planted = set(findings.settings.get("planted", ()))
    if not planted & set(names):
        raise UsageError("these findings have no decoys: measure a table from table.with_decoys(10)")
    values = findings.values().reindex(ranked.index).astype(float)
    above = next(k for k, f in enumerate(names) if f in planted)
    subset, shown = names[:bars], values.iloc[:bars].to_numpy(float)
    places = np.arange(len(subset))[::-1]
    for place, f, v in zip(places, subset, shown, strict=True):
        if f in planted:
            ax.barh(place, v, height=0.72, facecolor="none", edgecolor=REVIEW, hatch="////", linewidth=0.8)
        else:
            ax.barh(place, v, height=0.72, color=KEEP if names.index(f) < above else DROP)
    dress(ax, f"Decoys (hatched) among {len(names)} features: {above} stand above the best of them", findings.lead.replace("_", " "), "")
    ax.axhline(len(subset) - above - 0.5, color=SECOND, linewidth=1.6)
    _name(ax, places, ranked.iloc[:bars])


@drawn_on("ax")
def knockoff_differences(findings: Findings, bars: int = BARS, *, ax: Any = None) -> None:
    """Draw by how much each column of ``chaff.knockoffs`` beats its copies, over the runs.

    Examples
    --------
    >>> import chaff
    >>> import numpy as np
    >>> X = np.random.default_rng(0).normal(size=(100, 6))
    >>> found = chaff.knockoffs(chaff.open_arrays(X, X[:, 0]), q=0.5, runs=2)
    >>> chaff.plots.knockoff_differences(found).get_xlabel()
    'lasso difference, mean of 2 runs (whiskers: one standard deviation)'
    """
    _need(findings, "knockoffs")
    subset = findings.ranked("difference")
    subset = subset[subset["difference"].notna()].head(bars)
    places = np.arange(len(subset))[::-1]
    s = findings.settings
    ax.barh(places, subset["difference"], height=0.66, color=[COLOURS[v] for v in subset["verdict"]])
    spread = np.nan_to_num(subset["difference_sd"].to_numpy(float))
    ax.errorbar(subset["difference"], places, xerr=spread, fmt="none", ecolor=INK, elinewidth=1.0, capsize=3)
    ax.axvline(0, color=QUIET, linewidth=0.8)
    picked = int((findings.frame["verdict"] == "keep").sum())
    runs = f", mean of {s['runs']} runs (whiskers: one standard deviation)" if s["runs"] > 1 else ""
    dress(ax, f"{picked} of {len(findings.frame)} features beat their knockoff copies at q = {s['q']:g}", f"{s['statistic']}{runs}", "")
    _name(ax, places, subset)


DRAWN = {"chance": chance_band, "twins": twin_rounds, "stability": stability_shares, "knockoffs": knockoff_differences}


def _need(findings: Findings, method: str) -> None:
    if findings.method != method:
        raise UsageError(f"these findings are of {findings.method}, not of {method}")


def _name(ax: Any, places: Any, subset: Any) -> None:
    ax.set_yticks(places, [str(f) for f in subset.index])
    ax.tick_params(axis="y", labelsize=8 if len(subset) > 30 else 9 if len(subset) > 18 else 10)
    ax.grid(axis="y", visible=False)
    ax.set_ylim(-0.9 if len(subset) > 1 else -1.2, len(subset) - 0.3)


def _maybe_log(ax: Any, values: list[Any]) -> None:
    every = np.concatenate(values)
    every = every[np.isfinite(every)]
    if every.size and every.min() > 0 and every.max() / every.min() > FAR_APART:
        ax.set_xscale("log")
        ax.set_xlim(left=0.85 * every.min())
