"""Tables of counts: chi-square, likelihood ratio, exact test; information and Gini on levels or bins; curves on bins."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.arrays import Bytes, Floats, Ints
from chaff.kernels.class_sums import class_sums
from chaff.kernels.counts import two_way_counts
from chaff.methods.relevance.relevance_data import RelevanceData, bend, coded, coded_target, levels
from chaff.methods.relevance.statistic import BC, CC, EVERY, NC, NN, Family, FilterStatistic
from chaff.stats.group_differences import curve
from chaff.stats.information import (
    SPARSE,
    chi_square,
    exact_two_by_two,
    gains,
    likelihood_ratio,
    mutual_information,
    pool_rare,
    shuffled_chi_square_p,
)
from chaff.stats.tail_probabilities import cramers_v_interval
from chaff.table.bins import Bins
from chaff.work import task


def levels_by_classes(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Categories against classes, from the table of counts."""
    rows = view.work.each(task(_of_levels, view, wanted), features)
    return {k: [r[k] for r in rows] for k in (rows[0] if rows else {})}


def _of_levels(view: RelevanceData, wanted: set[str], name: str) -> dict[str, float]:
    levels, count = view.levels_of(name)
    subset = levels >= 0
    w = None if view.weights is None else view.weights[subset]
    flat = np.bincount(levels[subset] * view.count + view.classes[subset], w, count * view.count)
    return _tests(flat.reshape(count, view.count).astype(float), wanted, view, name)


def _tests(table: Floats, wanted: set[str], view: RelevanceData, name: str) -> dict[str, float]:
    out: dict[str, float] = {}
    if view.pool_below > 0:
        table = pool_rare(table, view.pool_below)
    if "chi_square" in wanted:
        x = chi_square(table[None])
        sides = [(table.sum(a) > 0).sum() for a in (0, 1)]
        smaller = np.array([max(min(sides) - 1, 1)])
        nan = np.array([np.nan])
        bounds = (
            cramers_v_interval(x.chi_square, x.df, np.array([table.sum()]), smaller, view.confidence) if view.confidence else (nan, nan)
        )
        p, at_most = x.p[0], False
        if x.sparse_share[0] > SPARSE and view.weights is None and x.df[0] >= 1:
            p, at_most = shuffled_chi_square_p(table, view.work.key("chi-square shuffles", name) >> 1)
        out |= {
            "cramers_v_sides": smaller[0],
            "chi_square": x.chi_square[0],
            "chi_square_df": x.df[0],
            "chi_square_p": p,
            "cramers_v": x.cramers_v[0],
            "cramers_v_low": bounds[0][0],
            "cramers_v_high": bounds[1][0],
            "sparse_share": x.sparse_share[0],
            "p_at_most": float(at_most),
        }
    if "g" in wanted:
        g, df, p = likelihood_ratio(table[None])
        out |= {"g": g[0], "g_df": df[0], "g_p": p[0]}
    if "fisher_exact" in wanted:
        used = table[table.sum(1) > 0]
        out["fisher_exact_p"] = exact_two_by_two(used) if used.shape == (2, 2) else float("nan")
    return out


def information(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Information measures of every kind, on levels and bins."""
    bins = coded(view, features)
    target, count = coded_target(view)
    parts = np.array_split(np.arange(len(features)), max(1, min(len(features), 8)))
    counts = np.concatenate(view.work.each(task(_count, bins.codes, target, view.weight_array, count), parts))
    keep_gap = bins.category if view.missing_level is None else np.full(len(features), view.missing_level)
    counts[~keep_gap, 0] = 0.0
    counts = counts[:, : int(bins.counts.max(initial=1))]
    out: dict[str, Any] = {}
    if "mutual_information" in wanted:
        out["mutual_information"] = mutual_information(counts)
    if wanted & {"information_gain", "gain_ratio", "gini_gain"}:
        g = gains(counts)
        out |= {n: getattr(g, n) for n in ("information_gain", "gain_ratio", "gini_gain") if n in wanted}
    return out


def share_of_classes(view: RelevanceData, features: list[str]) -> dict[str, float]:
    """Share of the classes' variation that the bins or levels of each feature explain, corrected for their number.

    Source: Goodman and Kruskal, 1954 (τ).
    """
    if not features:
        return {}
    bins = coded(view, features)
    counts = _count(bins.codes, view.classes, view.weight_array, view.count, np.arange(len(features)))
    n, of_level, of_class = counts.sum((1, 2)), counts.sum(2), counts.sum(1)
    with np.errstate(all="ignore"):
        none = (of_class**2).sum(1) / n
        within = np.where(of_level > 0, (counts**2).sum(2) / of_level, 0.0).sum(1)
        levels = (of_level > 0).sum(1)
        tau = 1.0 - (n - within) / (n - none) * (n - 1.0) / np.maximum(n - levels, 1.0)
    return dict(zip(features, np.nan_to_num(tau).tolist(), strict=True))


def _count(codes: Bytes, target: Ints, weights: Floats, classes: int, part: Ints) -> Floats:
    """Counts of code and class of some features, (features, 256, classes)."""
    counts = np.zeros((part.size, 256, classes))
    if part.size:
        two_way_counts(codes[int(part[0]) : int(part[-1]) + 1], target, weights, counts)
    return counts


def curves(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Number columns on bins against a number target: correlation ratio and lack of a linear fit."""
    bins = coded(view, features)
    most = int(bins.counts.max(initial=1))
    tables = np.array(view.work.each(task(_course, view, bins, features, most, float(view.y.mean())), range(len(features)))).reshape(
        -1, 4, most
    )
    c = curve(tables[:, 0], tables[:, 1], tables[:, 2], tables[:, 3].sum(1))
    return {
        "correlation_ratio": c.correlation_ratio,
        "curve_f": c.f,
        "curve_f_df": c.df,
        "curve_f_df_within": c.df_within,
        "curve_f_p": c.p,
    }


def _course(view: RelevanceData, bins: Bins, features: list[str], most: int, shift: float, k: int) -> Floats:
    """Weight and sum of the feature, sum and squares of the target, bin by bin."""
    _present, values = view.rest(view.table.column(features[k]).values)
    codes = bins.codes[k].astype(np.int64) - 1  # a gap becomes -1: it takes no part
    of_x, of_y = np.zeros((most, 4)), np.zeros((most, 4))
    middle = float(values.mean()) if values.size else 0.0
    class_sums(view.table.column(features[k]).values, codes, view.weight_array, middle, of_x)
    class_sums(view.y, codes, view.weight_array, shift, of_y)
    return np.stack([of_x[:, 1], of_x[:, 2], of_y[:, 2], of_y[:, 3]])


STATISTICS = (
    FilterStatistic(
        "correlation_ratio",
        "correlation ratio η on bins",
        (NN,),
        "higher",
        "Pearson, 1905; lack of fit Fisher, 1922",
        "captures curves; `curve_f` is the lack of a linear fit.",
        50,
        companions=("curve_f",),
        aliases=("curve_f",),
        tested="curve_f",
        contrasts={NN: bend},
    ),
    FilterStatistic(
        "chi_square",
        "Pearson chi-square",
        (BC, CC),
        "higher",
        "Pearson, 1900; V Bergsma, 2013; interval Smithson, 2003",
        "from counts, p by shuffles where sparse (≤ past their reach); bias-corrected V with interval; `pool_below` pools levels.",
        110,
        companions=("cramers_v", "sparse_share", "p_at_most"),
        aliases=("cramers_v",),
        contrasts={BC: levels, CC: levels},
        plain_bounds=("cramers_v_low", "cramers_v_high"),
    ),
    FilterStatistic("g", "likelihood-ratio chi-square", (BC, CC), "higher", "Wilks, 1935", "from counts.", 120),
    FilterStatistic(
        "fisher_exact",
        "Fisher's exact test, 2 × 2",
        (BC, CC),
        "lower",
        "Fisher, 1934",
        "2 × 2 only, in `fisher_exact_p`.",
        130,
        "an exact test counts whole rows",
        two_classes=True,
        aliases=("fisher_exact_p",),
    ),
    FilterStatistic(
        "mutual_information",
        "mutual information on bins, nats",
        EVERY,
        "higher",
        "Shannon, 1948; corrected Miller, 1955",
        "10 equal-count bins, Miller–Madow; p by `shuffles`.",
        140,
        tests=False,
        shuffles=True,
    ),
    FilterStatistic(
        "information_gain",
        "information gain, bits",
        (NC, BC, CC),
        "higher",
        "Quinlan, 1986",
        "on levels or bins.",
        160,
        tests=False,
        shuffles=True,
    ),
    FilterStatistic(
        "gain_ratio",
        "gain ratio",
        (NC, BC, CC),
        "higher",
        "Quinlan, 1993",
        "over the feature's own entropy.",
        170,
        tests=False,
        shuffles=True,
    ),
    FilterStatistic(
        "gini_gain",
        "Gini gain",
        (NC, BC, CC),
        "higher",
        "Breiman, Friedman, Olshen and Stone, 1984",
        "on levels or bins.",
        180,
        tests=False,
        shuffles=True,
    ),
)
FAMILIES = (
    Family(curves, (NN,), ("correlation_ratio",)),
    Family(levels_by_classes, (CC, BC), ("chi_square", "g", "fisher_exact")),
    Family(information, EVERY, ("mutual_information", "information_gain", "gain_ratio", "gini_gain")),
)
