"""Codes of features and target, in the kind of bins that was asked for; made once for all families that read them."""

from __future__ import annotations

import numpy as np

from chaff.arrays import Ints
from chaff.errors import UsageError
from chaff.methods.relevance.relevance_data import RelevanceData
from chaff.stats.supervised_bins import description_length_cuts
from chaff.table.bins import Binning, Bins, FeatureBins, equal_count_cuts
from chaff.work import task

KINDS = ("equal counts", "equal width", "supervised")
MOST_BINS = 250


def coded(view: RelevanceData, features: list[str]) -> Bins:
    """Codes of the features by the kind of bins that was asked for; made once for all families."""
    if "codes" not in view.memo:
        view.memo["codes"] = _code(view, view.of_kind("number", "binary", "category"))
    codes: Bins = view.memo["codes"]
    return codes.select(features)


def _code(view: RelevanceData, features: list[str]) -> Bins:
    if view.bin_kind == "equal counts":
        return Binning.learn(view.table, features, view.bins, view.work).apply(view.table, view.work)
    made = view.work.each(task(_own_bins, view), features)
    return Binning(tuple(features), tuple(made)).apply(view.table, view.work)


def _own_bins(view: RelevanceData, name: str) -> FeatureBins:
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


def check_bins(bins: int, bin_kind: str) -> None:
    """What can be told of them without a table."""
    if bin_kind not in KINDS:
        raise UsageError(f"bin_kind must be one of {', '.join(KINDS)}, not '{bin_kind}'")
    if not 2 <= bins <= MOST_BINS:
        raise UsageError(f"bins must be between 2 and {MOST_BINS}, not {bins}")


def coded_target(view: RelevanceData) -> tuple[Ints, int]:
    """(code of every row, how many): the classes, or equal-count bins of a number."""
    if not view.regression:
        return view.classes, view.count
    cuts = equal_count_cuts(*np.unique(view.y, return_counts=True), view.bins)
    return np.searchsorted(cuts, view.y, side="left").astype(np.int64), cuts.size + 1
