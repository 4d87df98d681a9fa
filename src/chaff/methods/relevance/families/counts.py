"""Tables of counts: chi-square, likelihood ratio, exact test; information and Gini on levels or bins; curves on bins."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.kernels.counts import two_way_counts
from chaff.kernels.sums import class_sums
from chaff.methods.relevance.view import View
from chaff.stats.curves import curve
from chaff.stats.information import chi_square, exact_two_by_two, gains, likelihood_ratio, mutual_information, pool_rare
from chaff.stats.noncentral import cramers_v_interval
from chaff.stats.supervised_bins import description_length_cuts
from chaff.table.bins import Binning, Bins, FeatureBins, equal_count_cuts

INFORMATION = {"mutual_information", "information_gain", "gain_ratio", "gini_gain"}


def levels_by_classes(view: View, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Categories against classes, from the table of counts."""

    def one(name: str) -> dict[str, float]:
        levels, count = view.levels_of(name)
        some = levels >= 0
        w = None if view.weights is None else view.weights[some]
        flat = np.bincount(levels[some] * view.count + view.classes[some], w, count * view.count)
        return _tests(flat.reshape(count, view.count).astype(float), int(some.sum()), wanted, view)

    rows = view.work.each(one, features)
    return {k: [r[k] for r in rows] for k in (rows[0] if rows else {})}


def _tests(table: Floats, rows: int, wanted: set[str], view: View) -> dict[str, float]:
    out: dict[str, float] = {"rows": rows}
    if view.pool_below > 0:
        table = pool_rare(table, view.pool_below)
    if "chi_square" in wanted:
        x = chi_square(table[None])
        sides = [(table.sum(a) > 0).sum() for a in (0, 1)]
        smaller = np.array([max(min(sides) - 1, 1)])
        nan = np.array([np.nan])
        bounds = cramers_v_interval(x.chi_square, x.df, np.array([table.sum()]), smaller, view.level) if view.level else (nan, nan)
        out |= {
            "chi_square": x.chi_square[0],
            "chi_square_df": x.df[0],
            "chi_square_p": x.p[0],
            "cramers_v": x.cramers_v[0],
            "cramers_v_low": bounds[0][0],
            "cramers_v_high": bounds[1][0],
            "sparse_share": x.sparse_share[0],
        }
    if "g" in wanted:
        g, df, p = likelihood_ratio(table[None])
        out |= {"g": g[0], "g_df": df[0], "g_p": p[0]}
    if "fisher_exact" in wanted:
        used = table[table.sum(1) > 0]
        out["fisher_exact_p"] = exact_two_by_two(used) if used.shape == (2, 2) else float("nan")
    return out


def information(view: View, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Information measures of every kind, on levels and bins."""
    bins = coded(view, features)
    target, count = coded_target(view)
    counts = np.zeros((len(features), 256, count))
    parts = np.array_split(np.arange(len(features)), max(1, min(len(features), 8)))
    view.work.each(lambda part: _count(bins, part, target, view.weight_array, counts), parts)
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


def _count(bins: Bins, part: Ints, target: Ints, weights: Floats, counts: Floats) -> None:
    if part.size:
        lo, hi = int(part[0]), int(part[-1]) + 1
        two_way_counts(bins.codes[lo:hi], target, weights, counts[lo:hi])


def coded(view: View, features: list[str]) -> Bins:
    """Codes of the features by the kind of bins that was asked for; made once for all families."""
    if "codes" not in view.memo:
        view.memo["codes"] = _code(view, view.of_kind("number", "binary", "category"))
    codes: Bins = view.memo["codes"]
    return codes.select(features)


def _code(view: View, features: list[str]) -> Bins:
    if view.bin_kind == "equal counts":
        return Binning.learn(view.table, features, view.bins, view.work).apply(view.table, view.work)
    made = view.work.each(lambda f: _own_bins(view, f), features)
    return Binning(tuple(features), tuple(made)).apply(view.table, view.work)


def _own_bins(view: View, name: str) -> FeatureBins:
    column = view.table.column(name)
    if column.kind != "number":
        return Binning.learn(view.table, [name], view.bins).bins[0]
    present = ~column.missing
    values = column.values[present]
    if not values.size:
        cuts = np.empty(0)
    elif view.bin_kind == "equal width":
        cuts = np.unique(np.linspace(values.min(), values.max(), view.bins + 1)[1:-1])
    else:
        cuts = description_length_cuts(values, view.classes[present], view.count)
    return FeatureBins(False, cuts, codes=cuts.size + 2)


def check_bins(view: View) -> None:
    kinds = ("equal counts", "equal width", "supervised")
    if view.bin_kind not in kinds:
        raise UsageError(f"bin_kind must be one of {', '.join(kinds)}, not '{view.bin_kind}'")
    if view.bin_kind == "supervised" and view.regression:
        raise UsageError("supervised bins need classes; for a number target use equal counts or equal width")
    if not 2 <= view.bins <= 250:
        raise UsageError(f"bins must be between 2 and 250, not {view.bins}")


def coded_target(view: View) -> tuple[Ints, int]:
    """(code of every row, how many): the classes, or equal-count bins of a number."""
    if not view.regression:
        return view.classes, view.count
    cuts = equal_count_cuts(*np.unique(view.y, return_counts=True), view.bins)
    return np.searchsorted(cuts, view.y, side="left").astype(np.int64), cuts.size + 1


def curves(view: View, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Number columns on bins against a number target: correlation ratio and lack of a linear fit."""
    bins = coded(view, features)
    most = int(bins.counts.max(initial=1))
    shift = float(view.y.mean())

    def one(k: int) -> Floats:
        _present, values = view.rest(view.table.column(features[k]).values)
        codes = bins.codes[k].astype(np.int64) - 1  # a gap becomes -1: it takes no part
        of_x, of_y = np.zeros((most, 4)), np.zeros((most, 4))
        middle = float(values.mean()) if values.size else 0.0
        class_sums(view.table.column(features[k]).values, codes, view.weight_array, middle, of_x)
        class_sums(view.y, codes, view.weight_array, shift, of_y)
        return np.stack([of_x[:, 1], of_x[:, 2], of_y[:, 2], of_y[:, 3]])

    tables = np.array(view.work.each(one, range(len(features)))).reshape(-1, 4, most)
    c = curve(tables[:, 0], tables[:, 1], tables[:, 2], tables[:, 3].sum(1))
    return {
        "correlation_ratio": c.correlation_ratio,
        "curve_f": c.f,
        "curve_f_df": c.df,
        "curve_f_df_within": c.df_within,
        "curve_f_p": c.p,
    }
