"""Pair screen: which two features tell together what neither tells alone.

A column that only works in company has no relevance by itself and is dropped by every one-at-a-time statistic; this flags
it first. For every pair, the target's variation between the cells of the two features' bins, less what a part for each of
them explains (the interaction of a two-way analysis of variance), held against the largest that any pair reaches under
shuffled targets.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from chaff.errors import UsageError
from chaff.kernels import pairs as kernels
from chaff.results.findings import Findings
from chaff.table.bins import Binning
from chaff.table.kinds import Values
from chaff.table.shuffle import shuffled
from chaff.table.table import Table
from chaff.work import Work

if TYPE_CHECKING:
    import pandas as pd

Ints = npt.NDArray[np.int64]
SAMPLE_ROWS = 2 * kernels.SPAN
SHUFFLES = kernels.LANES
ROWS_PER_CELL = 8  # bins are fewer where the rows would not fill their cells


@dataclass(frozen=True)
class Coded:
    """Features and target in the small codes that the kernels take."""

    features: tuple[str, ...]
    codes: npt.NDArray[np.uint8]
    steps: npt.NDArray[np.uint8]
    """(targets, rows): 0..15, one row a class, or one for a number."""
    sampled: Ints
    """Rows on which the shuffles are scored."""
    lanes: npt.NDArray[np.uint8]
    """(targets, SHUFFLES, sampled rows): the steps as shuffled."""


def interactions(
    table: Table, *, bins: int | None = None, alpha: float = 0.05, top: int = 200, seed: int = 0, workers: int | None = None
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
        chance gives), f, f_df, f_df_within, f_p, score, beyond_chance.

    Raises
    ------
    UsageError

    Notes
    -----
    The target is cut to 16 steps of equal count (classes: each class in turn, their scores combined). The score is the
    interaction's F on a normal scale (Paulson, 1942), so that pairs of different kinds compare. Shuffles are scored on at
    most 8,192 rows drawn at random: the scale of the score does not depend on the rows. Maximum statistic: Westfall and
    Young, 1993. Two-way analysis: Yates, 1934.

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
        raise UsageError("the pair screen is refused with row weights: its shuffles count rows alike. Open without weights")
    features = [f for f in table.features if table.kind(f) in ("number", "binary", "category")]
    if len(features) < 2:
        raise UsageError("the pair screen needs two features or more")
    if bins is not None and not 2 <= bins <= kernels.SIDE - 1:
        raise UsageError(f"bins must be between 2 and {kernels.SIDE - 1}, not {bins}")
    work = Work(seed, workers)
    coded = code(table, features, bins or _fitting_bins(len(table)), work)
    scores = _all_pairs(coded, work)
    return _findings(table, coded, scores, alpha, top)


def _fitting_bins(rows: int) -> int:
    return int(np.clip(np.sqrt(rows / ROWS_PER_CELL), 2, kernels.SIDE - 1))


def code(table: Table, features: list[str], bins: int, work: Work) -> Coded:
    """Everything in small codes, and the target's shuffles."""
    raw = Binning.learn(table, features, bins, work).apply(table, work)
    codes = np.minimum(raw.codes, kernels.SIDE - 1)  # categories have their rarest levels last: those are pooled
    n = len(table)
    sampled = np.arange(n) if n <= SAMPLE_ROWS else np.sort(work.stream("pair sample").choice(n, SAMPLE_ROWS, replace=False))
    rows = table.take(sampled)
    dealt = [_steps(shuffled(rows, work.stream("pair shuffle", k)), table) for k in range(SHUFFLES)]
    return Coded(tuple(features), codes, _steps(table, table), sampled, np.ascontiguousarray(np.stack(dealt, 1)))


def _steps(table: Table, whole: Table) -> npt.NDArray[np.uint8]:
    """Target steps of the rows in view, by the cuts of the whole table: 16 of equal count, or 0 and 1 for each class."""
    if whole.target.task == "regression":
        cuts = np.unique(np.quantile(whole.y, np.arange(1, kernels.SIDE) / kernels.SIDE))
        return np.searchsorted(cuts, table.y, side="left")[None].astype(np.uint8)
    count = len(whole.target.classes)
    which = [1] if count == 2 else range(count)
    return np.stack([(table.y == c).astype(np.uint8) for c in which])


def _packed(lanes: npt.NDArray[np.uint8]) -> Ints:
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
    beyond: Values
    within: Values
    df: Values
    df_within: Values
    score: Values
    largest: Values
    """(SHUFFLES,): largest score over all pairs in each shuffle."""


def _all_pairs(coded: Coded, work: Work) -> Scores:
    pairs = np.array(list(combinations(range(len(coded.features)), 2)), np.int64)
    sample = np.ascontiguousarray(coded.codes[:, coded.sampled]) if coded.sampled.size < coded.codes.shape[1] else coded.codes
    words = _packed(coded.lanes)
    with_steps = np.stack([(coded.codes << 4) | step for step in coded.steps])
    means, squares = _centre(coded.steps)
    lane_means, lane_squares = _centre(coded.lanes)

    def block(some: Ints) -> tuple[Values, Values]:
        out, largest = np.empty((len(some), 5)), np.full(SHUFFLES, -np.inf)
        kernels.score_pairs(coded.codes, sample, some, with_steps, means, squares, words, lane_means, lane_squares, out, largest)
        return out, largest

    done = work.each(block, np.array_split(pairs, min(len(pairs), 64)))
    real = np.concatenate([d[0] for d in done])
    return Scores(pairs[:, 0], pairs[:, 1], real[:, 0], real[:, 1], real[:, 2], real[:, 3], real[:, 4],
                  np.max([d[1] for d in done], 0))  # fmt: skip


def _centre(steps: npt.NDArray[np.uint8]) -> tuple[Values, Values]:
    """(means, sums of squares about them) along the rows."""
    means = steps.mean(-1)
    return means, np.square(steps - means[..., None]).sum(-1)


def _findings(table: Table, coded: Coded, s: Scores, alpha: float, top: int) -> Findings:
    import pandas as pd

    from chaff.stats.tails import f_upper

    # With the real target among them, so many of 1 + SHUFFLES equally likely largest scores may lie above.
    above = int(np.floor(alpha * (SHUFFLES + 1))) - 1
    threshold = float(np.sort(s.largest)[::-1][above])
    with np.errstate(all="ignore"):
        mean_within = s.within / s.df_within
        f = (s.beyond / s.df) / mean_within
        total = float(_centre(coded.steps)[1].sum())
        share = np.maximum(s.beyond - s.df * mean_within, 0.0) / total
    order = np.argsort(-s.score, kind="stable")[:top]
    names = np.array(coded.features, dtype=object)
    p = f_upper(f, s.df, s.df_within)
    listed = pd.DataFrame({
        "first": names[s.first[order]], "second": names[s.second[order]], "share": share[order], "f": f[order], "f_df": s.df[order],
        "f_df_within": s.df_within[order], "f_p": p[order], "score": s.score[order], "beyond_chance": s.score[order] > threshold,
    })  # fmt: skip
    frame = _by_feature(coded.features, s, share, threshold)
    notes = (
        f"{len(table):,} rows, {len(s.score):,} pairs; threshold {threshold:.2f} from the largest of all pairs in {SHUFFLES} shuffles"
        + (f", scored on {coded.sampled.size:,} rows" if coded.sampled.size < len(table) else ""),
    )
    settings = {"alpha": alpha, "threshold": threshold, "shuffles": SHUFFLES, "largest": s.largest.tolist()}
    better = {"score": "higher", "share": "higher"}
    return Findings("interactions", frame, "score", True, settings, notes, {"pairs": listed}, better)


def _by_feature(features: tuple[str, ...], s: Scores, share: Values, threshold: float) -> pd.DataFrame:
    import pandas as pd

    rows = []
    for k in range(len(features)):
        mine = np.flatnonzero((s.first == k) | (s.second == k))
        best = mine[np.argmax(s.score[mine])]
        partner = s.second[best] if s.first[best] == k else s.first[best]
        rows.append((features[partner], s.score[best], share[best], threshold, bool(s.score[best] > threshold)))
    index = pd.Index(features, name="feature")
    return pd.DataFrame(rows, columns=["partner", "score", "share", "threshold", "in_company"], index=index)
