"""Stability: how often a stage chooses a column on halves of the rows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np

from chaff.arrays import Flags, Ints
from chaff.choices import wrong_fields
from chaff.errors import DataError, UsageError, nearest
from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import Stage
from chaff.folds import make_folds, time_blocks
from chaff.methods.chance.measures import statistic_values
from chaff.methods.chance.shuffled_target import ChanceBaseline
from chaff.methods.chance.twin_test import TwinTest
from chaff.methods.importance.permutation import likeness
from chaff.methods.importance.stage import Importance
from chaff.methods.relevance.catalogue import NAMES
from chaff.methods.relevance.stage import Relevance
from chaff.methods.search.stage import Search, SelectionSearch
from chaff.methods.search.strategy import largest
from chaff.models.forms import sample
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep
from chaff.stats.stability import accidental_picks, in_turn, picks_at, set_stability
from chaff.table.table import Table
from chaff.work import Work, silent, task

CHOOSERS: dict[str, type] = {s.use: s for s in (Relevance, Importance, Search, ChanceBaseline, TwinTest)}
THRESHOLDS = (0.55, 0.6, 0.65, 0.7, 0.75, 0.8, 0.85, 0.9, 0.95)
LEAST_ROWS = 20
FOLDS = 5
BLOCKS = 20  # in time, half of which make a half-sample
RELATED = 0.3  # correlation of the bins, or its like with a category
LEAST_SHARE = 0.15  # of the halves, to stand in for another


@dataclass(frozen=True)
class Stability:
    """Run a stage on complementary halves of the rows: how often each feature is selected.

    Parameters
    ----------
    stage : stage, str or dict
        What selects: ``chaff.Relevance()``, "importance", ``{"use": "importance", "model": "lasso", "by": "coefficient"}``,
        ``chaff.Search("ridge")``, "chance", "twins"; of findings the best `size` by their leading column.
    size : int, float or None
        Features selected in each half, or a share of them below 1; None for a fifth of the features, ten at most.
    pairs : int
        Pairs of halves: each pair splits all rows in two.
    threshold : float
        Kept: selected in at least this share of the halves; above 0.5.

    Returns
    -------
    Findings
        One row a feature: selection_frequency, interchangeable_with (the feature selected in its place), verdict.
        ``more["thresholds"]``: the number selected at each threshold and the bound on false selections, by complementary pairs and by
        plain half-samples; ``more["pairs"]``: interchangeable features; ``settings["stability"]`` of the whole set with its CI.

    Raises
    ------
    UsageError, DataError
        For fewer than 20 rows, or a stage that selects nothing.

    Notes
    -----
    Classes keep their shares, row groups stay whole; with an order, halves are made of blocks in time. A false selection is a
    feature that a half selects no more often than an average one. The bound holds for these, not for proxies. Source: Shah and
    Samworth, 2013; Meinshausen and Bühlmann, 2010; stability of the set: Nogueira, Sechidis and Brown, 2018.

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c", "line_voltage_v", "straw_pct"])
    >>> found = chaff.stability(lots, chaff.Relevance(["pearson_r"], by="pearson_r"), size=1, pairs=20)
    >>> found.ranked().index[0], found.frame["selection_frequency"].sum()
    ('protein_pct', np.float64(1.0))
    """

    stage: Stage | str | Mapping[str, Any] = "relevance"
    size: int | float | None = None
    pairs: int = 50
    threshold: float = 0.75
    name: str = ""

    use: ClassVar[str] = "stability"
    hint_if_empty: ClassVar[str] = "lower its threshold or raise its size, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.pairs < 2 or (self.size is not None and self.size <= 0):
            raise UsageError("stability: pairs must be 2 or more and size 1 or more")
        if not 0.5 < self.threshold <= 1:
            raise UsageError(f"stability: threshold must be above 0.5 and at most 1, not {self.threshold}")
        object.__setattr__(self, "stage", as_chooser(self.stage))

    def uses_target(self) -> bool:
        return True

    def judge(self, table: Table, setting: Setting) -> Findings:
        if not table.features:
            raise DataError("stability: every feature is pinned out: there is nothing to judge")
        if len(table) < LEAST_ROWS:
            raise DataError(f"stability: {len(table):,} rows are too few to halve: at least {LEAST_ROWS}")
        size = self._size(table)
        chooser = as_chooser(self.stage)
        units = [(k, half) for k, half in enumerate(halves(table, self.pairs, setting.work))]
        work = replace(setting.work, watch=silent)
        result = setting.work.each(task(_chosen, chooser, size, table, work), units, "stability")
        return self._findings(table, np.array(result), size, chooser)

    def _size(self, table: Table) -> int:
        p = len(table.features)
        size = largest(self.size, p) if self.size is not None else min(10, max(1, p // 5))
        if size >= p:
            raise UsageError(f"stability: a size of {size} of {p} features chooses nothing: take a smaller one")
        return size

    def _findings(self, table: Table, chosen: Flags, size: int, chooser: Any) -> Findings:
        import pandas as pd

        p, names = len(table.features), np.array(table.features)
        share, mean = chosen.mean(0), float(chosen.sum(1).mean())
        frame = pd.DataFrame({"selection_frequency": share}, index=pd.Index(table.features, name="feature"))
        whole = set_stability(chosen)
        turns = related(table, in_turn(chosen, LEAST_SHARE, 0.6))
        frame["interchangeable_with"] = [", ".join(names[j if i == k else i] for i, j, *_ in turns if k in (i, j)) for k in range(p)]
        limits = sorted({*THRESHOLDS, self.threshold})
        bounds = [accidental_picks(t, mean, p, self.pairs) for t in limits]
        rows = [(t, picks_at(share, t), b, m) for t, (b, m) in zip(limits, bounds, strict=True)]
        columns = ["threshold", "chosen", "accidental_at_most", "accidental_plain_halves"]
        more = {
            "thresholds": pd.DataFrame(rows, columns=columns).set_index("threshold"),
            "pairs": pd.DataFrame(
                [(names[i], names[j], e, b) for i, j, e, b in turns],
                columns=["feature", "interchangeable_with", "either_share", "both_share"],
            ),
            "halves": pd.DataFrame(chosen.T, index=frame.index, columns=range(1, len(chosen) + 1)),
        }
        bound = bounds[limits.index(self.threshold)]
        settings = {
            "stage": chooser.use, "size": size, "pairs": self.pairs, "threshold": self.threshold, "stability": whole.value,
            "stability_low": whole.low, "stability_high": whole.high, "accidental_at_most": bound[0],
        }  # fmt: skip
        notes = (
            f"{len(chosen)} halves of {len(table):,} rows, {mean:.3g} of {p} chosen in each by {chooser.use}",
            f"at {self.threshold:g} at most {bound[0]:.2g} false selections are expected (bound from "
            f"complementary pairs; {bound[1]:.2g} from plain half-samples). False: a feature whose "
            f"selection probability is at most the average, {mean / p:.2f}",
            f"stability of the whole set {whole.value:.2f} (95 %: {whole.low:.2f} to {whole.high:.2f}; 0 chance, 1 always the same)",
            *[
                f"{names[i]} and {names[j]} are interchangeable: one of them in {e:.0%} of the halves, both in {b:.0%}"
                for i, j, e, b in turns[:4]
            ],
        )
        return Findings(self.use, frame, "selection_frequency", {"selection_frequency": "higher"}, settings, notes, more)

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        out, limit = [], f"{self.threshold:g} of the halves"
        for f, r in result.frame.iterrows():
            figure = f"selected in {r['selection_frequency']:.0%} of the half-samples"
            if r["selection_frequency"] >= self.threshold - 1e-12:
                out.append(keep(str(f), self.use, figure, limit, "selected often enough"))
            else:
                words = f"interchangeable with {r['interchangeable_with']}" if r["interchangeable_with"] else "not selected often enough"
                out.append(drop(str(f), self.use, figure, limit, words))
        return tuple(out)


def related(table: Table, pairs: list[tuple[int, int, float, float]]) -> list[tuple[int, int, float, float]]:
    """Pairs that also say the same to some degree: others only take turns at the last place."""
    if not pairs:
        return []
    subset = sorted({k for i, j, *_ in pairs for k in (i, j)})
    rows = sample(table.with_features([table.features[k] for k in subset]), "bins")
    like = likeness(rows.data)
    place = {k: at for at, k in enumerate(subset)}
    return [p for p in pairs if like[place[p[0]], place[p[1]]] >= RELATED]


def as_chooser(given: Any) -> Any:
    """A stage that ranks or searches, from itself, its word, or a mapping with `use` and settings."""
    if isinstance(given, str):
        given = {"use": given} | ({"statistics": "leading"} if given == "relevance" else {})  # the whole list would take ten times as long
    if isinstance(given, Mapping):
        use = str(given.get("use", ""))
        if use not in CHOOSERS:
            raise UsageError(f"stability: '{use}' does not choose features; {', '.join(CHOOSERS)} do.{nearest(use, CHOOSERS)}")
        settings = {k: v for k, v in given.items() if k != "use"}
        wrong = wrong_fields(CHOOSERS[use], settings)
        if wrong:
            raise UsageError(f"stability: {use}: " + "; ".join(wrong))
        return CHOOSERS[use](**settings)
    if not isinstance(given, tuple(CHOOSERS.values())):
        raise UsageError(f"stability: {given!r} does not choose features; {', '.join(CHOOSERS)} do")
    return given


def halves(table: Table, pairs: int, work: Work) -> list[Ints]:
    """Rows of both halves of each pair, positions in the table: classes in their shares, whole groups, equal rows together; in time
    half of the blocks that the series is cut into."""
    out = []
    if table.order is not None:
        block = time_blocks(table.order, min(BLOCKS, len(table) // 2))
        count = int(block.max()) + 1
        for k in range(pairs):
            first = work.stream("halves", k).permutation(count)[: count // 2]
            out += [np.flatnonzero(np.isin(block, first)), np.flatnonzero(~np.isin(block, first))]
        return out
    for part in make_folds(table, 2, pairs, work).parts:
        out += [np.flatnonzero(part == 0), np.flatnonzero(part == 1)]
    return out


def _chosen(stage: Any, size: int, table: Table, work: Work, unit: tuple[int, Ints]) -> Flags:
    """bool (features,): what the stage chooses on one half."""
    k, rows = unit
    half = table.take(rows)
    seed = replace(work, seed=work.key("half", k))
    if isinstance(stage, Relevance) and stage.ranked_by in NAMES:  # the one statistic that ranks, and nothing else
        values = statistic_values(stage, NAMES[stage.ranked_by], stage.view(half, seed))
        order = np.lexsort((np.array(table.features), -np.nan_to_num(values, nan=-np.inf)))[:size]
        return np.isin(np.arange(len(values)), order) & ~np.isnan(values)
    result = stage.judge(half, Setting.of(half, FOLDS, work=seed))
    if isinstance(result, SelectionSearch):
        sets = [s for s in result.decided.sets if len(s) <= size]
        best = max(sets, key=len) if sets else frozenset()
    else:
        ranked = result.ranked()
        best = frozenset(str(f) for f in ranked.index[ranked[result.lead].notna()][:size])
    return np.array([f in best for f in table.features], bool)
