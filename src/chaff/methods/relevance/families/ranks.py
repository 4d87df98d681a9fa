"""One sort a column: Spearman, Kendall, Kruskal–Wallis, ROC AUC, Kolmogorov–Smirnov, distance correlation."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.arrays import Flags, Floats, Ints
from chaff.methods.relevance.relevance_data import RelevanceData, levels_and_ranks, ranks
from chaff.methods.relevance.statistic import BN, CN, NC, NN, RANKS, Family, FilterStatistic
from chaff.stats.distance import Spread, distance_correlation, spread_of
from chaff.stats.influence import bounds, of_area, of_kendall, of_spearman, rank_bounds
from chaff.stats.paired_loss import Units
from chaff.stats.ranks import Ranked, RankTest, average_ranks, kendall, rank_test, ranked, spearman, spearman_p
from chaff.work import task


def against_number(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Number columns against a number target."""
    whole = ranked(view.y)
    spread = spread_of(view.y, whole.order) if "distance_correlation" in wanted else None

    return _columns(view.work.each(task(_of_number, view, wanted, whole, spread), features))


def _of_number(view: RelevanceData, wanted: set[str], whole: Ranked, spread: Spread | None, name: str) -> dict[str, float]:
    present, x = view.rest(view.table.column(name).values)
    y, target_spread = whole, spread
    if present is not None:
        order = (np.cumsum(present) - 1)[whole.order[present[whole.order]]]  # the target's order without the gaps
        y = ranked(view.y[present], order)
        target_spread = spread_of(y.values, order) if spread is not None and x.size else None
    return _pair(x, y, target_spread, wanted, view.confidence, view.units_of(present))


def _tau(x: Ranked, y: Ranked) -> float:
    return kendall(x, y)[0]


def _pair(x: Floats, y: Ranked, spread: Spread | None, wanted: set[str], confidence: float | None, units: Units | None) -> dict[str, float]:
    nan = float("nan")
    out: dict[str, float] = {}
    own = ranked(x)
    if "spearman_rho" in wanted:
        rho = spearman(own, y)
        low, high = rank_bounds(rho, own, y, of_spearman, spearman, units, confidence) if confidence else (nan, nan)
        out |= {"spearman_rho": rho, "spearman_rho_low": low, "spearman_rho_high": high, "spearman_rho_p": spearman_p(own, y, rho)}
    if "kendall_tau" in wanted:
        tau, p = kendall(own, y)
        low, high = rank_bounds(tau, own, y, of_kendall, _tau, units, confidence) if confidence else (nan, nan)
        out |= {"kendall_tau": tau, "kendall_tau_low": low, "kendall_tau_high": high, "kendall_tau_p": p}
    if "distance_correlation" in wanted:
        d = distance_correlation(spread_of(x, own.order), spread) if spread is not None else None
        out |= {
            "distance_correlation": d.correlation if d else nan,
            "distance_correlation_corrected": d.corrected if d else nan,
            "distance_correlation_p": d.p if d else nan,
        }
    return out


def between_classes(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Number columns between classes."""

    return _columns(view.work.each(task(_of_class_column, view, wanted), features))


def _of_class_column(view: RelevanceData, wanted: set[str], name: str) -> dict[str, Any]:
    present, x = view.rest(view.table.column(name).values)
    classes = view.classes if present is None else view.classes[present]
    weights = view.weights if present is None or view.weights is None else view.weights[present]
    return _class_columns(view, x, classes, weights, wanted, present)


def _class_columns(
    view: RelevanceData, x: Floats, classes: Ints, weights: Floats | None, wanted: set[str], present: Flags | None
) -> dict[str, Any]:
    out: dict[str, Any] = {}
    if not x.size:
        return out
    test = rank_test(x, classes, view.count, weights, view.confidence)
    if "kruskal_h" in wanted:
        out |= {"kruskal_h": test.h, "kruskal_h_df": test.df, "kruskal_h_p": test.p}
    if "auc" in wanted:
        out |= _auc(view, test)
        if view.units is not None and view.confidence and out["auc"] == out["auc"]:
            k = view.table.target.classes.index(out["auc_class"])
            out["auc_low"], out["auc_high"] = _shared_bounds(view, x, classes == k, float(out["auc"]), present)
    if "ks" in wanted:
        out |= {"ks": test.ks, "ks_p": test.ks_p}
    return out


def _shared_bounds(view: RelevanceData, x: Floats, inside: Flags, auc: float, present: Flags | None) -> tuple[float, float]:
    """Bounds of an area where rows hang together; none with weights."""
    units = view.units_of(present)
    if view.weights is not None or units is None:
        return float("nan"), float("nan")
    own = np.empty(x.size)
    for side in (inside, ~inside):
        own[side] = average_ranks(x[side])
    return bounds(auc, of_area(average_ranks(x), own, inside), units, view.confidence or 0.95, "logit")


def _auc(view: RelevanceData, test: RankTest) -> dict[str, Any]:
    """Of the positive class with two; with more, of the class it sets apart best, and every class beside it."""
    names = view.table.target.classes
    if view.count == 2:
        k = 1
    else:
        away = np.abs(np.nan_to_num(test.auc, nan=0.5) - 0.5)
        k = int(np.argmax(away))
    p = float(test.auc_p[k])
    if view.count > 2:
        p = min(p * view.count, 1.0)  # the best of several: Bonferroni over the classes
    out = {"auc": test.auc[k], "auc_low": test.auc_low[k], "auc_high": test.auc_high[k], "auc_p": p, "auc_class": names[k]}
    return out | {f"auc of {c}": v for c, v in zip(names, test.auc, strict=True)} if view.count > 2 else out


def between_levels(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """A number target between the levels of categories; the target is sorted once for all."""

    return _columns(view.work.each(task(_of_levels, view), features))


def _of_levels(view: RelevanceData, name: str) -> dict[str, float]:
    levels, count = view.levels_of(name)
    subset = levels >= 0
    test = rank_test(view.y[subset], levels[subset], count) if subset.any() else None
    nan = float("nan")
    return {"kruskal_h": test.h if test else nan, "kruskal_h_df": test.df if test else nan, "kruskal_h_p": test.p if test else nan}


def _columns(rows: list[dict[str, Any]]) -> dict[str, Any]:
    """Rows of plain values turned into columns; what a row lacks is missing."""
    names = list(dict.fromkeys(k for r in rows for k in r))
    return {k: [r.get(k, "" if k == "auc_class" else float("nan")) for r in rows] for k in names}


STATISTICS = (
    FilterStatistic(
        "spearman_rho",
        "Spearman ρ",
        (NN, BN),
        "magnitude",
        "Spearman, 1904; interval Borkowf, 2002",
        "average ranks; exact p up to nine rows.",
        20,
        RANKS,
        contrasts={NN: ranks, BN: ranks},
    ),
    FilterStatistic(
        "kendall_tau",
        "Kendall τ-b",
        (NN, BN),
        "magnitude",
        "Kendall, 1945; Knight, 1966; interval Daniels and Kendall, 1947",
        "n log n, ties; exact p up to 33 rows without ties.",
        30,
        "pairs count rows, and a pair has no weight of its own",
        contrasts={NN: ranks, BN: ranks},
    ),
    FilterStatistic(
        "kruskal_h",
        "Kruskal–Wallis H",
        (BN, CN, NC),
        "higher",
        "Kruskal and Wallis, 1952",
        "corrected for ties.",
        70,
        RANKS,
        contrasts={BN: levels_and_ranks, CN: levels_and_ranks, NC: ranks},
    ),
    FilterStatistic(
        "auc",
        "ROC AUC, one against the rest",
        (NC,),
        "magnitude",
        "Mann and Whitney, 1947; interval DeLong, DeLong and Clarke-Pearson, 1988; Newcombe, 2006",
        "with several classes the best class and each; p then × classes.",
        90,
        contrasts={NC: ranks},
        class_by_class=True,
    ),
    FilterStatistic(
        "ks", "Kolmogorov–Smirnov", (NC,), "higher", "Smirnov, 1939", "two classes; Kolmogorov's limit.", 100, two_classes=True
    ),
    FilterStatistic(
        "distance_correlation",
        "distance correlation",
        (NN, BN),
        "higher",
        "Székely, Rizzo and Bakirov, 2007; p Shen, Panda and Vogelstein, 2022",
        "any dependence, n log n; p is a bound.",
        190,
        "its pairs of rows are counted alike",
    ),
)
FAMILIES = (
    Family(against_number, (NN, BN), ("spearman_rho", "kendall_tau", "distance_correlation")),
    Family(between_levels, (CN, BN), ("kruskal_h",)),
    Family(between_classes, (NC,), ("kruskal_h", "auc", "ks")),
)
