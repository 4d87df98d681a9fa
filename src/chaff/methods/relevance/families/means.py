"""Sums and sums of squares: Pearson r, linear F, one-way and Welch's F, Fisher score."""

from __future__ import annotations

from typing import Any

import numpy as np

from chaff.arrays import Floats
from chaff.kernels.class_sums import class_sums, class_sums_of_eight, sums_beside
from chaff.methods.relevance.relevance_data import RelevanceData, levels, values
from chaff.methods.relevance.statistic import BC, BN, CN, EVERY, NC, NN, Family, FilterStatistic
from chaff.stats.correlation import correlation_p
from chaff.stats.group_differences import OneWay, fisher_score, one_way, welch
from chaff.stats.influence import pearson_with_bounds
from chaff.stats.tail_probabilities import eta_squared_interval
from chaff.stats.tolerances import ROUNDING
from chaff.work import task

SIDE_BY_SIDE = 8
SHIFT_ROWS = 25


def pearson(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Number columns against a number target."""
    sums = np.array(view.work.each(task(_with_target, view, "pearson_r" in wanted), features)).reshape(-1, 9)
    rows, n, sx, qx, sy, qy, xy, low, high = sums.T
    with np.errstate(all="ignore"):
        vx, vy = qx - sx * sx / n, qy - sy * sy / n
        vx, vy = np.where(vx > ROUNDING * qx, vx, np.nan), np.where(vy > ROUNDING * qy, vy, np.nan)
        r = np.clip((xy - sx * sy / n) / np.sqrt(vx) / np.sqrt(vy), -1.0, 1.0)
    p = correlation_p(r, rows)
    out: dict[str, Any] = {}
    if "pearson_r" in wanted:
        out |= {"pearson_r": r, "pearson_r_low": low, "pearson_r_high": high, "pearson_r_p": p}
    if "f" in wanted:
        with np.errstate(all="ignore"):
            f = np.where(np.abs(r) >= 1, np.inf, r * r * (rows - 2) / (1 - r * r))
        f = np.where((rows > 2) & ~np.isnan(r), f, np.nan)
        out |= {"f": f, "f_df": np.where(np.isnan(f), np.nan, 1.0), "f_df_within": rows - 2, "f_p": np.where(np.isnan(f), np.nan, p)}
    return out


def _with_target(view: RelevanceData, bounded: bool, name: str) -> tuple[float, ...]:
    """(rows, weight, Σx, Σx², Σy, Σy², Σxy) over the rows present, about a value near each mean; bounds of r."""
    if view.weights is None and not (bounded and view.confidence):
        out = np.empty(6)
        sums_beside(view.table.column(name).values, view.y, out)
        return (out[0], *out.tolist(), float("nan"), float("nan"))
    present, x = view.rest(view.table.column(name).values)
    y = view.y if present is None else view.y[present]
    w = view.weights if present is None or view.weights is None else view.weights[present]
    if not x.size:
        return (*(0.0,) * 7, float("nan"), float("nan"))
    x, y = x - x.mean(), y - y.mean()
    units = view.units_of(present)
    bounds = pearson_with_bounds(x, y, units, view.confidence)[1:] if bounded and view.confidence else (float("nan"),) * 2
    if w is None:
        return float(x.size), float(x.size), float(x.sum()), float(x @ x), float(y.sum()), float(y @ y), float(x @ y), *bounds
    wx, wy = w * x, w * y
    sums = (float(wx.sum()), float(wx @ x), float(wy.sum()), float(wy @ y), float(wx @ y))
    return float((w > 0).sum()), float(w.sum()), *sums, *bounds


def between_classes(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """Number columns between the classes of the target."""
    parts = view.work.each(task(_of_block, view, wanted), view.blocks(features, 8 * SIDE_BY_SIDE))
    return {k: np.concatenate([p[k] for p in parts]) for k in (parts[0] if parts else {})}


def _of_block(view: RelevanceData, wanted: set[str], block: list[str]) -> dict[str, Any]:
    tables = np.concatenate([_class_tables(view, eight) for eight in view.blocks(block, SIDE_BY_SIDE)])
    return _one_way_columns(tables, wanted, view.confidence)


def _class_tables(view: RelevanceData, features: list[str]) -> Floats:
    """(features, classes, 4): rows, weight, sum and sum of squares about a shift near the mean."""
    columns = [c.values for c in view.columns(features)]
    shifts = np.array([_near_mean(c) for c in columns])
    out = np.zeros((len(columns), view.count, 4))
    todo = list(range(len(columns)))
    if len(columns) == SIDE_BY_SIDE and view.weights is None and view.count <= 256:
        sums = np.zeros((view.count, 2 * SIDE_BY_SIDE))
        class_sums_of_eight(*columns, view.class_bytes, shifts, sums)
        out[:, :, :2] = view.class_counts[None, :, None]
        out[:, :, 2], out[:, :, 3] = sums[:, :SIDE_BY_SIDE].T, sums[:, SIDE_BY_SIDE:].T
        todo = [k for k in todo if np.isnan(out[k, :, 2]).any()]  # a missing cell shows in its sum
    for k in todo:
        out[k] = 0.0
        class_sums(columns[k], view.classes, view.weight_array, shifts[k], out[k])
    return out


def _near_mean(values: Floats) -> float:
    """The middle of a sample of rows: one wild cell must not move it, and it need not be exact."""
    subset = sorted(v for v in values[:: max(1, values.size // SHIFT_ROWS)].tolist() if v == v)
    if not subset:
        subset = values[~np.isnan(values)][:1].tolist()
    return subset[len(subset) // 2] if subset else 0.0


def between_levels(view: RelevanceData, features: list[str], wanted: set[str]) -> dict[str, Any]:
    """A number target between the levels of categories."""
    parts = view.work.each(task(_of_levels, view, wanted, float(view.y.mean())), features)
    return {k: np.concatenate([p[k] for p in parts]) for k in (parts[0] if parts else {})}


def _of_levels(view: RelevanceData, wanted: set[str], shift: float, name: str) -> dict[str, Any]:
    levels, count = view.levels_of(name)
    table = np.zeros((count, 4))
    class_sums(view.y, levels, view.weight_array, shift, table)
    return _one_way_columns(table[None], wanted, view.confidence)


def _one_way_columns(table: Floats, wanted: set[str], confidence: float | None) -> dict[str, Any]:
    """Columns from class tables (m, K, 4)."""
    counts, weights, sums, squares = (table[:, :, k] for k in range(4))
    out: dict[str, Any] = {}
    result = one_way(counts, sums, weights, squares.sum(1))
    if "f" in wanted:
        out |= _f_columns(result, confidence)
    if "welch_f" in wanted:
        w = welch(counts, sums, weights, squares)
        out |= {"welch_f": w.f, "welch_f_df": w.df_between, "welch_f_df_within": w.df_within, "welch_f_p": w.p}
    if "fisher_score" in wanted:
        out["fisher_score"] = fisher_score(result.eta_squared)
    return out


def _f_columns(result: OneWay, confidence: float | None) -> dict[str, Any]:
    nan = np.full(result.f.shape, np.nan)
    low, high = eta_squared_interval(result.f, result.df_between, result.df_within, confidence) if confidence else (nan, nan)
    return {
        "f": result.f,
        "f_df": result.df_between,
        "f_df_within": result.df_within,
        "f_p": result.p,
        "eta_squared": result.eta_squared,
        "omega_squared": result.omega_squared,
        "omega_squared_low": low,
        "omega_squared_high": high,
    }


STATISTICS = (
    FilterStatistic(
        "pearson_r",
        "Pearson r",
        (NN, BN),
        "magnitude",
        "Pearson, 1896; interval Efron and Stein, 1981",
        "interval on Fisher's scale, from fourth moments.",
        10,
        contrasts={NN: values, BN: values},
    ),
    FilterStatistic(
        "f",
        "F, linear or one-way",
        EVERY[:5],
        "higher",
        "Fisher, 1925; ω² Hays, 1963; interval Steiger, 2004",
        "of the linear fit, or between groups; η², and ω² with an interval (normal columns only).",
        40,
        companions=("eta_squared", "omega_squared"),
        aliases=("eta_squared", "omega_squared"),
        contrasts={NN: values, BN: values, NC: values, CN: levels, BC: values},
        plain_bounds=("omega_squared_low", "omega_squared_high"),
    ),
    FilterStatistic(
        "welch_f",
        "Welch's F",
        (BN, CN, NC),
        "higher",
        "Welch, 1951",
        "no equal variances assumed; blank where a group has fewer than five rows.",
        60,
    ),
    FilterStatistic(
        "fisher_score",
        "Fisher score",
        (NC,),
        "higher",
        "Duda and Hart, 1973",
        "between over within, variances over n_k; η² / (1 − η²).",
        80,
        tests=False,
    ),
)
FAMILIES = (
    Family(pearson, (NN, BN), ("pearson_r", "f")),
    Family(between_levels, (CN,), ("f",)),
    Family(between_levels, (CN, BN), ("welch_f",)),
    Family(between_classes, (NC,), ("f", "welch_f", "fisher_score")),
    Family(between_classes, (BC,), ("f",)),
)
