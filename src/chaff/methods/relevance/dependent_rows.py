"""Rows that are no independent witnesses: p-values from the score tests of each statistic's contrast, or none, with the reason."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from chaff.methods.relevance.catalogue import STATISTICS
from chaff.methods.relevance.relevance_data import RelevanceData
from chaff.methods.relevance.statistic import FilterStatistic
from chaff.stats.score_test import score_p
from chaff.work import task

if TYPE_CHECKING:
    import pandas as pd


def corrected(frame: pd.DataFrame, view: RelevanceData) -> tuple[str, ...]:
    """Put the p-values that the groups, the order or the weights of the rows leave into the frame; say what was done.

    Columns of other p-values, and intervals that hold for independent rows only, become blank.
    """
    if view.units is None:
        return ()
    blank = []
    for s in STATISTICS.values():
        column = s.p_column
        if column not in frame:
            continue
        features = [str(f) for f in frame.index[frame[column].notna()]]
        made = [f for f in features if (view.kinds[f], view.table.target.task) in s.contrasts]
        result = dict(zip(made, view.work.each(task(_of_feature, view, s), made), strict=True))
        frame[column] = [result.get(str(f), float("nan")) for f in frame.index]
        if len(made) < len(features):
            blank.append(s.name)
        for bound in s.plain_bounds:
            if bound in frame:
                frame[bound] = np.nan
    words = view.shared_words
    notes = [f"p-values treat {view.witness_words} as the independent units, not the rows ({words})"]
    if blank:
        notes.append(f"no p-value for {', '.join(blank)}: it assumes independent rows; these rows have {words}")
    return tuple(notes)


def _of_feature(view: RelevanceData, statistic: FilterStatistic, name: str) -> float:
    assert view.units is not None
    A, B, subset = statistic.contrasts[view.kinds[name], view.table.target.task](view, name)
    units = view.units.take(np.flatnonzero(subset))
    if not statistic.class_by_class or view.count == 2:
        return score_p(A, B, units)
    each = [score_p(A, (view.classes[subset] == k)[None].astype(float), units) for k in range(view.count)]
    best = float(np.nanmin(each)) if not np.isnan(each).all() else float("nan")
    return min(best * view.count, 1.0)  # the best of several: Bonferroni over the classes
