"""Minimum redundancy, maximum relevance: features one after another, each for what it tells less what is told already."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.kernels.counts import two_way_counts
from chaff.methods.relevance.relevance_data import RelevanceData, coded, coded_target, too_many_levels
from chaff.methods.relevance.statistic import EVERY, Family, FilterStatistic, Measured
from chaff.stats.information import mutual_information
from chaff.table.bins import Bins
from chaff.work import task

if TYPE_CHECKING:
    import pandas as pd

LEAST_REDUNDANCY = 0.01  # nats; a smaller mean redundancy would make the quotient a lottery


def mrmr(view: RelevanceData, features: list[str], wanted: set[str]) -> Measured:
    """The place of every feature in both orders, features of too many levels left out; the picks as frames."""
    import pandas as pd

    able = [f for f in features if not too_many_levels(view.table, f)]
    frames = {k: v for k, v in (order_of_picks(view, able) if able else {}).items() if k in wanted}
    places = {k: pd.Series(np.arange(1.0, len(v) + 1), index=v["feature"]).reindex(features).to_numpy() for k, v in frames.items()}
    return Measured(places, frames)


def order_of_picks(view: RelevanceData, features: list[str]) -> dict[str, pd.DataFrame]:
    """For both forms, a frame of the picks in order: feature, relevance, redundancy (mean over those before), score."""
    import pandas as pd

    bins = coded(view, features)
    target, count = coded_target(view)
    relevance = _shared(view, bins, target, count)
    known: dict[int, Floats] = {}

    def shared_with(k: int) -> Floats:
        if k not in known:
            known[k] = _shared(view, bins, bins.codes[k].astype(np.int64), int(bins.counts[k]))
        return known[k]

    out = {}
    for form in ("difference", "quotient"):
        picked: list[int] = []
        rows = []
        redundancy = np.zeros(len(features))
        for place in range(min(view.places, len(features))):
            mean = redundancy / max(place, 1)
            score = relevance - mean if form == "difference" else relevance / np.maximum(mean, LEAST_REDUNDANCY)
            if place == 0:
                score = relevance.copy()
            score[picked] = -np.inf
            k = int(np.argmax(score))
            rows.append((features[k], relevance[k], mean[k] if place else np.nan, score[k]))
            picked.append(k)
            if place + 1 < min(view.places, len(features)):
                redundancy += shared_with(k)
        out[f"mrmr_{form}"] = pd.DataFrame(rows, columns=["feature", "relevance", "redundancy", "score"])
    return out


def _shared(view: RelevanceData, bins: Bins, other: Ints, count: int) -> Floats:
    """Mutual information of every feature with one coded column."""
    parts = np.array_split(np.arange(len(bins.features)), min(8, max(len(bins.features), 1)))

    return np.concatenate(view.work.each(task(_shared_block, bins, other, view.weight_array, count), parts))


def _shared_block(bins: Bins, other: Ints, weights: Floats, count: int, part: Ints) -> Floats:
    if not part.size:
        return np.empty(0)
    lo, hi = int(part[0]), int(part[-1]) + 1
    counts = np.zeros((hi - lo, 256, count))
    two_way_counts(bins.codes[lo:hi], other, weights, counts)
    return mutual_information(counts[:, : int(bins.counts[lo:hi].max())])


STATISTICS = (
    FilterStatistic(
        "mrmr_difference",
        "place by relevance less redundancy",
        EVERY,
        "lower",
        "Peng, Long and Ding, 2005",
        "1 is picked first; picks in `more`.",
        210,
        by_request=True,
        tests=False,
    ),
    FilterStatistic(
        "mrmr_quotient",
        "place by relevance over redundancy",
        EVERY,
        "lower",
        "Ding and Peng, 2005",
        "the same as a quotient.",
        220,
        by_request=True,
        tests=False,
    ),
)
FAMILIES = (Family(mrmr, EVERY, ("mrmr_difference", "mrmr_quotient")),)
