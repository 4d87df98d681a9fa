"""Relevance: each feature against the target, one at a time, by the statistic that fits the two kinds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np
import numpy.typing as npt

from chaff.evaluate.setting import Setting
from chaff.kernels.counts import two_way_counts
from chaff.results.cuts import Cut
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep
from chaff.stats.adjust import benjamini_hochberg
from chaff.stats.correlation import correlation_p, fisher_interval
from chaff.stats.groups import OneWay, one_way
from chaff.stats.information import chi_square, mutual_information
from chaff.table.bins import INFORMATION_BINS, Binning, equal_count_cuts
from chaff.table.moments import Moments, table_moments
from chaff.table.table import Table
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

Floats = npt.NDArray[np.float64]
MANY_ROWS = 50_000  # from here on a tiny effect has a tiny p-value


@dataclass(frozen=True)
class Relevance:
    """Pearson r, one-way F or chi-square by kind, and mutual information on bins.

    Parameters
    ----------
    by : str
        Column that ranks and cuts: effect_size (|r|, √ω² or Cramér's V, one scale for all), mutual_information, q, …
    cut : dict or None
        Which features stay, such as ``{"top": 40}``; None measures only.

    Notes
    -----
    Numbers against a number: Pearson r with Fisher's interval. Where one side is a category: one-way F with η² and ω².
    Both: Pearson's chi-square with bias-corrected V. Mutual information in nats on 10 equal-count bins, Miller-Madow
    corrected. q-values after Benjamini and Hochberg, 1995.
    """

    by: str = "effect_size"
    cut: Mapping[str, float] | None = None

    use: ClassVar[str] = "relevance"
    loosen: ClassVar[str] = "loosen its cut, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.cut is not None:
            Cut.from_mapping(self.cut)

    def judge(self, table: Table, setting: Setting, work: Work) -> Findings:
        frame = _statistics(table, table_moments(table, table.features, work))
        frame["mutual_information"] = _information(table)
        frame["q"] = benjamini_hochberg(frame["p"].to_numpy(float))
        notes = [f"{len(table):,} rows"]
        if len(table) >= MANY_ROWS:
            notes.append("with so many rows nearly everything is significant: go by effect size")
        lower = self.by == "q" or self.by == "p" or self.by.endswith("_p")
        return Findings(self.use, frame, self.by, not lower, asdict(self), tuple(notes))

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        values = result.ranked(self.by)[self.by].reindex(result.frame.index)
        figures = {f: f"{self.by} {v:.3g}" for f, v in values.items()}
        if self.cut is None:
            return tuple(keep(str(f), self.use, figures[f]) for f in values.index)
        cut = Cut.from_mapping(self.cut)
        stays = cut.stays(values, result.higher_is_better)
        return tuple(
            keep(str(f), self.use, figures[f], str(cut)) if stays[f]
            else drop(str(f), self.use, figures[f], str(cut), f"not in {cut} by {self.by}")
            for f in values.index
        )  # fmt: skip


def _statistics(table: Table, moments: Moments) -> pd.DataFrame:
    import pandas as pd

    layout = moments.layout
    frame = pd.DataFrame(index=pd.Index(layout.features, name="feature"))
    frame["kind"] = [table.kind(f) for f in layout.features]
    frame["rows"] = moments.present[layout.starts[:-1]]
    for name in ("statistic", "p", "effect_size"):
        frame[name] = "" if name == "statistic" else np.nan
    number_target = table.target.task == "regression"
    numbers = np.flatnonzero(~layout.category)
    if numbers.size:
        part = _pearson(moments, numbers) if number_target else _classes_apart(moments, numbers)
        _put(frame, numbers, part)
    for f in np.flatnonzero(layout.category).tolist():
        _put(frame, np.array([f]), _levels_apart(moments, f) if number_target else _levels_by_classes(moments, f))
    return frame


def _put(frame: pd.DataFrame, which: npt.NDArray[np.int64], part: Mapping[str, Any]) -> None:
    for name, values in part.items():
        if name not in frame.columns:
            frame[name] = np.nan
        frame.iloc[which, frame.columns.get_loc(name)] = values


def _gap_rows(moments: Moments, columns: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """Place of each design column among the columns with gaps, -1 for none."""
    place = np.full(moments.sums.size, -1, np.int64)
    place[moments.layout.gaps] = np.arange(moments.layout.gaps.size)
    return place[columns]


def _target_over_present(moments: Moments, columns: npt.NDArray[np.int64], target: int) -> tuple[Floats, Floats]:
    """(sum, sum of squares) of a target column over the rows where each of `columns` is present."""
    sums = np.full(columns.size, moments.sums[target])
    squares = np.full(columns.size, moments.P[target, target])
    gap = _gap_rows(moments, columns)
    sums[gap >= 0] -= moments.sums_missing[gap[gap >= 0], target]
    squares[gap >= 0] -= moments.squares_missing[gap[gap >= 0], target]
    return sums, squares


def _pearson(moments: Moments, features: npt.NDArray[np.int64]) -> dict[str, Any]:
    columns = moments.layout.starts[features]
    y = moments.layout.width
    n = moments.weight_present[columns]
    sx, qx = moments.sums[columns], np.diagonal(moments.P)[columns]
    sy, qy = _target_over_present(moments, columns, y)
    with np.errstate(all="ignore"):
        vx, vy = qx - sx * sx / n, qy - sy * sy / n
        vx, vy = np.where(vx > 1e-12 * qx, vx, np.nan), np.where(vy > 1e-12 * qy, vy, np.nan)
        r = np.clip((moments.P[columns, y] - sx * sy / n) / np.sqrt(vx * vy), -1.0, 1.0)
    rows = moments.present[columns].astype(float)
    low, high = fisher_interval(r, rows)
    p = correlation_p(r, rows)
    return {
        "statistic": "pearson_r", "pearson_r": r, "pearson_r_low": low, "pearson_r_high": high, "p": p, "effect_size": np.abs(r),
    }  # fmt: skip


def _one_way_columns(result: OneWay) -> dict[str, Any]:
    return {
        "statistic": "f", "f": result.f, "f_df": result.df_between, "f_df_within": result.df_within, "p": result.p,
        "eta_squared": result.eta_squared, "omega_squared": result.omega_squared,
        "effect_size": np.sqrt(result.omega_squared),
    }  # fmt: skip


def _with_rest(some: Floats, whole: Floats) -> Floats:
    """Two classes have one indicator column; the other class is what is left."""
    return np.stack([whole - some[:, 0], some[:, 0]], axis=1) if some.shape[1] == 1 else some


def _classes_apart(moments: Moments, features: npt.NDArray[np.int64]) -> dict[str, Any]:
    """Number columns between classes: everything one-way F needs stands in the moments."""
    columns = moments.layout.starts[features]
    targets = np.arange(moments.layout.width, moments.sums.size)
    weight = np.stack([_target_over_present(moments, columns, int(t))[0] for t in targets], axis=1)
    weight = _with_rest(weight, moments.weight_present[columns])
    sums = _with_rest(moments.P[np.ix_(columns, targets)], moments.sums[columns])
    rows = moments.present[columns] / np.maximum(moments.weight_present[columns], 1e-300)
    scale = rows[:, None]  # weights add up to the rows, so that degrees of freedom count rows
    square = np.diagonal(moments.P)[columns] * rows
    return _one_way_columns(one_way(np.maximum(weight * scale, 0.0), sums * scale, np.maximum(weight * scale, 0.0), square))


def _levels_apart(moments: Moments, f: int) -> dict[str, Any]:
    """A number target between the levels of a category."""
    lo, hi = moments.layout.starts[f], moments.layout.starts[f + 1]
    y = moments.layout.width
    scale = moments.rows / moments.weight
    weight = moments.sums[lo:hi][None, :] * scale
    sums = moments.P[lo:hi, y][None, :] * scale
    return _one_way_columns(one_way(weight, sums, weight, np.array([moments.P[y, y] * scale])))


def _levels_by_classes(moments: Moments, f: int) -> dict[str, Any]:
    lo, hi = moments.layout.starts[f], moments.layout.starts[f + 1]
    some = moments.P[lo:hi, moments.layout.width :]
    counts = _with_rest(some, moments.sums[lo:hi]) * (moments.rows / moments.weight)
    result = chi_square(counts[None])
    return {
        "statistic": "chi_square", "chi_square": result.chi_square, "chi_square_df": result.df, "p": result.p,
        "cramers_v": result.cramers_v, "effect_size": result.cramers_v,
    }  # fmt: skip


def _information(table: Table) -> Floats:
    bins = Binning.learn(table, table.features, INFORMATION_BINS).apply(table)
    if table.target.task == "regression":
        cuts = equal_count_cuts(*np.unique(table.y, return_counts=True), INFORMATION_BINS)
        target = np.searchsorted(cuts, table.y, side="left").astype(np.int64)
    else:
        target = table.y.astype(np.int64)
    counts = np.zeros((len(table.features), 256, int(target.max()) + 1))
    weights = np.empty(0) if table.weights is None else table.weights * (len(table) / table.weights.sum())
    two_way_counts(bins.codes, target, weights, counts)
    number = ~bins.category
    counts[number, 0] = 0.0  # a gap in a number is no value of it
    return mutual_information(counts)


def effect_sizes(table: Table, setting: Setting, features: Sequence[str]) -> dict[str, float]:
    """Effect size of each feature: from the relevance stage when it ran before, measured now otherwise."""
    earlier = setting.earlier.get("relevance")
    if earlier is None or not set(features) <= set(earlier.frame.index):
        earlier = Relevance().judge(table.with_features(features), setting, setting.work)
    return {f: float(np.nan_to_num(earlier.frame.loc[f, "effect_size"])) for f in features}
