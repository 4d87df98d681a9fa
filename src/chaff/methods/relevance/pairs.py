"""Pair screen: which two features tell together what neither tells alone.

A column that only works in company has no relevance by itself and is dropped by every one-at-a-time statistic; this flags
it first. What an additive model of all features predicts is taken off the target. For every pair, the variation of what is left
between the cells of the two features' bins, less what a part for each of them explains (the interaction of a two-way analysis
of variance), is held against the largest that any pair reaches when it is shuffled; what is over it has to hold on other rows.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import combinations
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.arrays import Bytes, Flags, Floats, Ints
from chaff.errors import UsageError
from chaff.folds import make_folds, time_blocks
from chaff.kernels import feature_pairs as kernels
from chaff.methods.relevance.additive import left_over
from chaff.methods.relevance.stage import confirmed
from chaff.methods.screen.leaks import LeakRule
from chaff.results.findings import Findings
from chaff.stats.paired_loss import Units
from chaff.table.bins import Binning
from chaff.table.moments import Moments, part_moments
from chaff.table.shuffle import shuffled
from chaff.table.table import Table
from chaff.work import Watch, Work, Workers, task

if TYPE_CHECKING:
    import pandas as pd

SAMPLE_ROWS = 2 * kernels.SPAN
AWAY = 0.1  # of the rows: a series is turned round by at least so much
SHUFFLES = kernels.LANES
FOLDS = 5
LEAST_SHARE = 0.005  # of the variation, from which company is worth a flag
EDGE = 0.005
ROWS_PER_CELL = 8  # bins are fewer where the rows would not fill their cells


@dataclass(frozen=True)
class Coded:
    """Features and target in the small codes that the kernels take."""

    features: tuple[str, ...]
    codes: Bytes
    steps: Bytes
    """(targets, rows): 0..15."""
    sampled: Ints
    """Rows on which the shuffles are scored."""
    lanes: Bytes
    """(targets, SHUFFLES, sampled rows): the steps as shuffled."""


def interactions(
    table: Table,
    *,
    bins: int | None = None,
    alpha: float = 0.05,
    top: int = 200,
    seed: int = 0,
    workers: Workers = None,
    watch: Watch | None = None,
) -> Findings:
    """Screen all pairs of features for what they tell together beyond the sum of each.

    Parameters
    ----------
    table : Table
    bins : int, optional
        Bins of a number, 2 to 15; as many as keep eight rows in a cell on average when left out. Missing is one more.
    alpha : float
        Chance that any pair at all is flagged when none tells anything: the threshold is that quantile of the largest
        score over all pairs in each of 32 shuffles of the target; at least 0.05.
    top : int
        Pairs listed.
    seed, workers : int

    Returns
    -------
    Findings
        One row a feature: its strongest partner, score, threshold, `in_company` (whether any of its pairs is over the
        threshold). ``more["pairs"]``: first, second, share (of the target's variation, beyond both parts, less what
        chance gives), f, f_df, f_df_within, f_p, score, significant.

    Raises
    ------
    UsageError

    Notes
    -----
    From the target goes first what an additive model - a smooth curve and steps for every column - predicts for rows it has not
    seen, and what is left is scaled to even spread (classes: Pearson residuals of each, their scores combined) and cut to 16
    steps. The score is the interaction's F on a normal scale
    (Paulson, 1942), so that pairs of different kinds compare. Shuffles are scored on at most 8,192 rows drawn at random:
    the scale of the score does not depend on the rows. A column that explains the target far better than all others looks
    like a leak: it would explain every pair away, so it is left out, and said. A pair over the threshold is flagged where it adds
    half a per cent of the variation, and predicts rows it was not learned from. Groups and order are kept in the shuffles, and
    counted in that last test.

    Source: two-way analysis Yates, 1934; residuals of a smaller model shuffled Freedman and Lane, 1983; maximum statistic
    Westfall and Young, 1993.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.interactions(chaff.demo.table(noise=4))
    >>> bool(found.frame.loc["dough_temp_c", "in_company"]), found.frame.loc["dough_temp_c", "partner"]
    (True, 'mixing_energy_wh_kg')
    """
    if not 0.05 <= alpha < 1:
        raise UsageError(f"alpha must be between 0.05 and 1 with {SHUFFLES} shuffles, not {alpha}")
    if table.weights is not None:
        raise UsageError("the pair test does not support row weights. Open the table without weights")
    features = [f for f in table.features if table.kind(f) in ("number", "binary", "category")]
    if len(features) < 2:
        raise UsageError("the pair test needs two features or more")
    if bins is not None and not 2 <= bins <= kernels.SIDE - 1:
        raise UsageError(f"bins must be between 2 and {kernels.SIDE - 1}, not {bins}")
    work = Work(seed, workers, watch)
    parts = _parts(table, work)
    leak = _leak(part_moments(table, features, np.zeros(len(table), np.int64), 1, work)[0], table.target.task == "classification")
    if leak and len(features) > 2:
        features = [f for f in features if f != leak]
    rest = left_over(table, features, parts, work)
    coded = code(table, features, bins or _fitting_bins(len(table)), rest, work)
    scores = _all_pairs(coded, work)
    result = _findings(table, coded, scores, PairScores(rest, parts, alpha, top))
    note = (f"{leak} is excluded: R² far above all others; it would mask interactions",)
    return replace(result, notes=(*result.notes, *note)) if leak else result


def _fitting_bins(rows: int) -> int:
    return int(np.clip(np.sqrt(rows / ROWS_PER_CELL), 2, kernels.SIDE - 1))


def code(table: Table, features: list[str], bins: int, targets: Floats, work: Work) -> Coded:
    """Everything in small codes, and the target's shuffles."""
    raw = Binning.learn(table, features, bins, work).apply(table, work)
    codes = np.minimum(raw.codes, kernels.SIDE - 1)  # categories have their rarest levels last: those are pooled
    n = len(table)
    sampled = np.arange(n) if n <= SAMPLE_ROWS else np.sort(work.stream("pair sample").choice(n, SAMPLE_ROWS, replace=False))
    steps = _steps(targets)
    rows = table.take(sampled)
    places = replace(rows, y_all=_at(rows, np.arange(sampled.size)))  # a target that says which row it came from
    permuted = [steps[:, sampled][:, shuffled(places, work.stream("pair shuffle", k), AWAY).y.astype(np.int64)] for k in range(SHUFFLES)]
    return Coded(tuple(features), codes, steps, sampled, np.ascontiguousarray(np.stack(permuted, 1)))


def _at(table: Table, values: Ints) -> Floats:
    """The values at the rows in view of a column as long as the source."""
    out = np.zeros(table.source.rows)
    out[table.rows] = values
    return out


def _parts(table: Table, work: Work) -> Ints:
    """int64 (rows,): the fold of each row; blocks in time where there is an order."""
    if table.order is not None:
        return time_blocks(table.order, FOLDS)
    return make_folds(table, FOLDS, 1, work).parts[0]


def _leak(moments: Moments, classes: bool) -> str:
    """The feature whose single columns are far more correlated with the target than any other's; empty when none is."""
    r = moments.correlations()
    layout = moments.layout
    with np.errstate(invalid="ignore"):
        columns = np.nanmax(np.nan_to_num(r[: layout.width, layout.width :] ** 2), axis=1, initial=0.0)
    best = np.maximum.reduceat(columns, layout.starts[:-1])
    suspects = LeakRule(classes).suspects(dict(zip(layout.features, best.tolist(), strict=True)))
    return next(iter(suspects), "")


def _steps(targets: Floats) -> Bytes:
    """Each target cut to 16 steps of equal width between its outermost half per cents."""
    low, high = np.quantile(targets, (EDGE, 1 - EDGE), axis=1)[..., None]
    width = np.where(high > low, high - low, 1.0)
    return np.asarray(np.clip((targets - low) / width * kernels.SIDE, 0, kernels.SIDE - 1).astype(np.uint8))


def _packed(lanes: Bytes) -> Ints:
    """(targets, rows, WORDS): lane k in bits 16 (k % 4) of word k // 4."""
    words = np.zeros((lanes.shape[0], lanes.shape[2], kernels.WORDS), np.int64)
    for k in range(lanes.shape[1]):
        words[:, :, k // 4] += lanes[:, k].astype(np.int64) << (16 * (k % 4))
    return words


@dataclass(frozen=True)
class Scores:
    """One entry a pair."""

    first: Ints
    second: Ints
    beyond: Floats
    within: Floats
    df: Floats
    df_within: Floats
    score: Floats
    largest: Floats
    """(SHUFFLES,): largest score over all pairs in each shuffle."""


def _all_pairs(coded: Coded, work: Work) -> Scores:
    pairs = np.array(list(combinations(range(len(coded.features)), 2)), np.int64)
    sample = np.ascontiguousarray(coded.codes[:, coded.sampled]) if coded.sampled.size < coded.codes.shape[1] else coded.codes
    words = _packed(coded.lanes)
    with_steps = np.stack([(coded.codes << 4) | step for step in coded.steps])
    means, squares = _centre(coded.steps)
    lane_means, lane_squares = _centre(coded.lanes)

    done = work.each(
        task(_score_block, coded.codes, sample, with_steps, (means, squares), words, (lane_means, lane_squares)),
        np.array_split(pairs, min(len(pairs), 64)),
    )
    real = np.concatenate([d[0] for d in done])
    return Scores(pairs[:, 0], pairs[:, 1], real[:, 0], real[:, 1], real[:, 2], real[:, 3], real[:, 4], np.max([d[1] for d in done], 0))


def _score_block(
    codes: Bytes, sample: Bytes, with_steps: Bytes, centre: Any, words: Ints, lane_centre: Any, subset: Ints
) -> tuple[Floats, Floats]:
    """(scores of some pairs, the largest of each shuffle)."""
    out, largest = np.empty((len(subset), 5)), np.full(SHUFFLES, -np.inf)
    kernels.score_pairs(codes, sample, subset, with_steps, *centre, words, *lane_centre, out, largest)
    return out, largest


def _centre(steps: Bytes) -> tuple[Floats, Floats]:
    """(means, sums of squares about them) along the rows."""
    means = steps.mean(-1)
    return means, np.square(steps - means[..., None]).sum(-1)


@dataclass(frozen=True)
class PairScores:
    """What scores are judged by."""

    rest: Floats
    parts: Ints
    alpha: float
    top: int


def _findings(table: Table, coded: Coded, s: Scores, by: PairScores) -> Findings:
    import pandas as pd

    from chaff.stats.tail_probabilities import f_upper

    alpha, top = by.alpha, by.top

    # With the real target among them, so many of 1 + SHUFFLES equally likely largest scores may lie above.
    above = int(np.floor(alpha * (SHUFFLES + 1))) - 1
    threshold = float(np.sort(s.largest)[::-1][above])
    with np.errstate(all="ignore"):
        mean_within = s.within / s.df_within
        f = (s.beyond / s.df) / mean_within
        total = float(_centre(coded.steps)[1].sum())
        share = np.maximum(s.beyond - s.df * mean_within, 0.0) / total
    flagged = _flagged(table, coded, s, share, threshold, by)
    order = np.argsort(-s.score, kind="stable")[:top]
    names = np.array(coded.features, dtype=object)
    p = f_upper(f, s.df, s.df_within)
    listed = pd.DataFrame(
        {
            "first": names[s.first[order]],
            "second": names[s.second[order]],
            "share": share[order],
            "f": f[order],
            "f_df": s.df[order],
            "f_df_within": s.df_within[order],
            "f_p": p[order],
            "score": s.score[order],
            "significant": flagged[order],
        }
    )
    frame = _by_feature(coded.features, s, share, threshold, flagged)
    notes = (
        (
            f"{len(table):,} rows, {len(s.score):,} pairs; threshold {threshold:.2f}: largest score of any pair "
            f"over {SHUFFLES} permutations (family-wise)"
        )
        + (f", scored on {coded.sampled.size:,} rows" if coded.sampled.size < len(table) else ""),
    )
    settings = {"alpha": alpha, "threshold": threshold, "shuffles": SHUFFLES, "largest": s.largest.tolist()}
    return Findings("interactions", frame, "score", {"score": "higher", "share": "higher"}, settings, notes, {"pairs": listed})


def _flagged(table: Table, coded: Coded, s: Scores, share: Floats, threshold: float, by: PairScores) -> Flags:
    """Pairs over the threshold that add something worth having and hold on other rows."""
    out = (s.score > threshold) & (share >= LEAST_SHARE)
    units = Units(None, table.groups, table.order)
    for k in np.flatnonzero(out).tolist():
        out[k] = confirmed(coded.codes[s.first[k]], coded.codes[s.second[k]], by.rest, by.parts, units)
    return np.asarray(out)


def _by_feature(features: tuple[str, ...], s: Scores, share: Floats, threshold: float, flagged: Flags) -> pd.DataFrame:
    import pandas as pd

    rows = []
    for k in range(len(features)):
        own = np.flatnonzero((s.first == k) | (s.second == k))
        best = own[np.lexsort((s.score[own], flagged[own]))[-1]]
        partner = s.second[best] if s.first[best] == k else s.first[best]
        rows.append((features[partner], s.score[best], share[best], threshold, bool(flagged[own].any())))
    index = pd.Index(features, name="feature")
    return pd.DataFrame(rows, columns=["partner", "score", "share", "threshold", "in_company"], index=index)
