"""Twin test: how often a column is worth more than the best of its kind's shuffled twins."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.choices import plan_value
from chaff.errors import DataError, UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.chance.twins import Rounds, rounds_of
from chaff.methods.importance.way import Way, as_way
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep, review
from chaff.stats.stability import log_evidence_above, log_evidence_below
from chaff.table.shuffle import BLIND, NOT_JUDGED, blind_columns, names_where
from chaff.table.table import Table

A_BATCH = 8  # rounds between two looks
LEAST_ROWS = 20
LEAST_SCALE = 0.05  # of the median column's


@dataclass(frozen=True)
class TwinTest:
    """Compare every feature with permuted copies of the features over rounds: which ones beat the best copy.

    Parameters
    ----------
    model : model, str, dict or None
        What is fitted in each round; None for a forest of 500 trees, eight levels deep, that tries the root of the columns at each
        split.
    by : str, way or dict
        "impurity" or "out of bag" (loss when a column is permuted among the rows that a tree has not learned from), both forests only
        and fast; or a way of `chaff.importance` over folds, such as "permutation" or "coefficient".
    rounds : int
        Maximum number of rounds; the test ends early when every feature is decided. At least as many as show a share above
        `keep_share` when all are won: 43 for 0.9, 7 for 0.5 (alpha 0.05).
    percentile : float
        Of the copies that a feature has to beat: 100 for the best copy.
    keep_share, drop_share : float
        A feature is kept when it beats the copies in more than `keep_share` of the rounds, dropped when in less than `drop_share`,
        each shown with evidence that may be looked at at any time. Between the two, or undecided after the last round: review.
    alpha : float
        Probability of ever being wrong about the side of a feature's share, however early it is decided.

    Returns
    -------
    Findings
        One row a feature: worth (importance in units of what its own copies get, mean over rounds), to_beat (what the best copy got in
        those rounds), hits, rounds, beaten_share, decided, to_decide (further rounds needed if the share stays), rank (of the
        dropped too), verdict. ``more["history"]`` has the worth by round, ``more["twins"]`` the limit, best, median and least of
        the copies by round.

    Raises
    ------
    UsageError, DataError
        For fewer than 20 rows, or too few rounds to decide.

    Notes
    -----
    With row groups, copies are permuted within them; with an order, they are shifted in time. The rounds reuse the same rows. They
    measure how repeatable a rank is, not whether it would be found on new rows: with the default shares, about one table in ten
    without any effect keeps something (measured in docs/which-way.md). The copies of dropped features stay in. The decision may
    be taken after every batch of rounds because its evidence is a test martingale. Source: Ville, 1939; Robbins, 1970.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c", "line_voltage_v"])
    >>> found = chaff.twin_test(lots, chaff.Forest(trees=50))
    >>> found.frame.loc["protein_pct", "verdict"], found.frame.loc["line_voltage_v", "verdict"]
    ('keep', 'drop')
    """

    model: Model | str | Mapping[str, Any] | None = None
    by: Way | str | Mapping[str, Any] = "impurity"
    rounds: int = 100
    percentile: float = 100.0
    keep_share: float = 0.9
    drop_share: float = 0.5
    alpha: float = 0.05
    name: str = ""

    use: ClassVar[str] = "twins"
    hint_if_empty: ClassVar[str] = "lower its percentile or keep_share, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.rounds < 1 or not 0 < self.percentile <= 100:
            raise UsageError("twin test: rounds must be 1 or more and percentile above 0 and at most 100")
        if not 0 < self.drop_share <= self.keep_share < 1 or not 0 < self.alpha < 1:
            raise UsageError("twin test: shares and alpha must lie between 0 and 1, drop_share at or below keep_share")
        if self.rounds < (needed := rounds_needed(self.keep_share, self.alpha)):
            raise UsageError(
                f"twin test: {self.rounds} rounds can keep no column: it takes {needed} won out of {needed} to show a share above "
                f"{self.keep_share:g} at an alpha of {self.alpha:g}. Take {needed} rounds or more, or a lower keep_share"
            )
        if self.model is not None:
            object.__setattr__(self, "model", as_model(self.model))
        if self.by != "out of bag":
            as_way(self.by)

    def uses_target(self) -> bool:
        return True

    def judge(self, table: Table, setting: Setting) -> Findings:
        if not table.features:
            raise DataError("twin test: every feature is pinned out: there is nothing to judge")
        if len(table) < LEAST_ROWS:
            raise DataError(f"twin test: {len(table):,} rows are too few to say what chance gives: at least {LEAST_ROWS}")
        rounds = rounds_of(table, None if self.model is None else as_model(self.model), self.by, setting)
        record, blind = Record.start(table.features), blind_columns(table)
        while record.done < self.rounds and (record.decision[~blind] == 0).any():
            batch = range(record.done, min(record.done + A_BATCH, self.rounds))
            live = [f for f, o in zip(table.features, record.live(), strict=True) if o]
            record = record.with_rounds(live, rounds.play(live, batch), self)
            setting.work.tell(f"twin test, {record.decided()} of {len(table.features)} columns decided", record.done, self.rounds)
        return self._findings(
            table, record if record.done else record.with_rounds(table.features, rounds.play(table.features, [0]), self), rounds, blind
        )

    def _findings(self, table: Table, record: Record, rounds: Rounds, blind: Flags) -> Findings:
        import pandas as pd

        frame = record.frame(self)
        frame["decided"] = np.where(blind, NOT_JUDGED, frame["decided"])
        frame["rank"] = _places(frame["beaten_share"], frame["worth"] / frame["to_beat"].abs())
        index = pd.Index(range(1, record.done + 1), name="round")
        more = {
            "history": pd.DataFrame(record.history, index=index, columns=list(table.features)),
            "twins": pd.DataFrame(record.twins, index=index, columns=["limit", "best", "median", "least"]),
        }
        settings = {
            "by": rounds.label, "model": plan_value(rounds.model, "label"), "rounds": record.done, "percentile": self.percentile,
            "keep_share": self.keep_share, "drop_share": self.drop_share,
        }  # fmt: skip
        left = int((frame["decided"] == "").sum())
        notes = [
            f"{record.done} rounds by {rounds.label} on {len(table):,} rows, {rounds.how}: the rounds reuse the same "
            "rows, so the share measures repeatability of the ranking, not generalisation to new rows"
        ]
        if left:
            notes.append(f"{left} undecided: `to_decide` says how many rounds more would decide, if their share stays as it is")
        if blind.any():
            notes.append(f"{NOT_JUDGED}: {names_where(table, blind)}; {BLIND}, so permuting changes nothing")
        return Findings(
            self.use, frame, "worth", {"worth": "higher", "beaten_share": "higher", "rank": "lower"}, settings, tuple(notes), more
        )

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        out = []
        for f, r in result.frame.iterrows():
            figure = f"beats the best twin in {r['hits']:.0f} of {r['rounds']:.0f} rounds"
            limit = f"{self.keep_share:g} of the rounds"
            if r["decided"] == "keep":
                out.append(keep(str(f), self.use, figure, limit, "beyond its twins"))
            elif r["decided"] == "drop":
                out.append(drop(str(f), self.use, figure, f"{self.drop_share:g} of the rounds", "no better than permuted copies"))
            elif r["decided"] == NOT_JUDGED:
                out.append(review(str(f), self.use, NOT_JUDGED, "", f"{NOT_JUDGED}: {BLIND}, so permuting changes nothing", stays=True))
            else:
                out.append(review(str(f), self.use, figure, limit, "undecided", stays=True))
        return tuple(out)


def _places(share: Any, worth: Any) -> Any:
    """1 for the column that beats its twins most often, by worth where that is the same."""
    order = np.lexsort((-worth.to_numpy(float), -share.to_numpy(float)))
    places = np.empty(order.size, np.int64)
    places[order] = np.arange(1, order.size + 1)
    return places


@dataclass(frozen=True)
class Record:
    """What the rounds have shown so far; every array by feature, or by round and feature."""

    features: tuple[str, ...]
    hits: Floats
    played: Floats
    history: Floats = field(repr=False)
    """float64 (rounds, features): importance in units of its own twins', missing where a column took no part."""
    twins: Floats = field(repr=False)
    """float64 (rounds, 4): what had to be beaten, the best, the median and the least of the twins."""
    raw: Floats = field(repr=False)
    """float64 (rounds, features): importance of the twins as the model tells it."""
    decision: Floats = field(repr=False)
    """1 kept, -1 dropped, 0 open."""

    @classmethod
    def start(cls, features: Sequence[str]) -> Record:
        p = len(features)
        return cls(tuple(features), np.zeros(p), np.zeros(p), np.empty((0, p)), np.empty((0, 4)), np.empty((0, p)), np.zeros(p))

    @property
    def done(self) -> int:
        return len(self.history)

    def live(self) -> Flags:
        """Columns that a round still plays with: all but the dropped."""
        return np.asarray(self.decision != -1)

    def decided(self) -> int:
        return int((self.decision != 0).sum())

    def with_rounds(self, live: Sequence[str], result: Sequence[tuple[Floats, Floats]], test: TwinTest) -> Record:
        """found : per round the importances of the live columns and of all twins."""
        place = [self.features.index(f) for f in live]
        hits, played, history, twins = self.hits.copy(), self.played.copy(), [*self.history], [*self.twins]
        raw = np.array([*self.raw, *(copies for _, copies in result)])
        scale = scale_of(raw)
        for values, copies in result:
            worth, others = values / scale[place], copies / scale
            limit = float(np.percentile(others, test.percentile))
            row = np.full(hits.size, np.nan)
            row[place] = worth
            history.append(row)
            twins.append(np.array([limit, others.max(), np.median(others), others.min()]))
            hits[place] += worth > limit
            played[place] += 1
        decision = self.decision.copy()
        subset = np.flatnonzero(decision == 0)
        bar = -np.log(test.alpha)
        decision[subset[log_evidence_above(hits[subset], played[subset], test.keep_share) >= bar]] = 1
        decision[subset[log_evidence_below(hits[subset], played[subset], test.drop_share) >= bar]] = -1
        return replace(self, hits=hits, played=played, history=np.array(history), twins=np.array(twins), raw=raw, decision=decision)

    def frame(self, test: TwinTest) -> Any:
        import pandas as pd

        frame = pd.DataFrame(index=pd.Index(self.features, name="feature"))
        frame["worth"] = np.nanmean(self.history, axis=0)  # every column plays the first rounds
        beside = np.where(np.isnan(self.history), np.nan, self.twins[:, :1])
        frame["to_beat"] = np.nanmean(beside, axis=0)
        frame["hits"], frame["rounds"] = self.hits.astype(int), self.played.astype(int)
        frame["beaten_share"] = self.hits / self.played
        frame["decided"] = np.array(["drop", "", "keep"], object)[(self.decision + 1).astype(int)]
        frame["to_decide"] = [
            0.0 if d else rounds_to_decide(h, n, test) for d, h, n in zip(self.decision, self.hits, self.played, strict=True)
        ]
        return frame


def rounds_needed(keep_share: float, alpha: float) -> int:
    """Rounds that are enough to keep a column which wins them all."""
    n = np.arange(1.0, 100_000.0)
    return int(np.argmax(log_evidence_above(n, n, keep_share) >= -np.log(alpha))) + 1


def scale_of(raw: Floats) -> Floats:
    """What a column's twins are worth on average, float64 (features,), never next to nothing: columns with many values, which a
    model uses more by chance, are measured by their own."""
    scale = np.asarray(np.abs(raw).mean(0))
    subset = scale[scale > 0]
    return np.maximum(scale, LEAST_SCALE * float(np.median(subset))) if subset.size else np.ones(scale.size)


def rounds_to_decide(hits: float, of: float, test: TwinTest, most: int = 100_000) -> float:
    """Rounds more until a decision, were the share of hits to stay as it is; infinite between the two limits."""
    share = hits / of
    if test.drop_share <= share <= test.keep_share:
        return float("inf")
    bar, evidence = -np.log(test.alpha), log_evidence_above if share > test.keep_share else log_evidence_below
    limit = test.keep_share if share > test.keep_share else test.drop_share
    n = np.unique(np.geomspace(of, most, 400).round())
    there = np.flatnonzero(evidence(share * n, n, limit) >= bar)
    return float(n[there[0]] - of) if there.size else float("inf")
