"""Relevance: each feature against the target by the statistics that fit the two kinds, all features at once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np

from chaff.arrays import Bytes, Floats, Ints
from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.kernels.feature_pairs import SIDE
from chaff.methods.relevance.catalogue import (
    FAMILIES,
    STATISTICS,
    belongs,
    better,
    check_names,
    check_ranking,
    column_of,
    described,
    named_statistics,
    our_name,
    resolve,
    statistic_of,
)
from chaff.methods.relevance.default_test import COLUMNS, leads_of, led_words, put_leads
from chaff.methods.relevance.dependent_rows import corrected
from chaff.methods.relevance.families.counts import share_of_classes
from chaff.methods.relevance.relevance_data import FEWEST_A_LEVEL, RelevanceData, check_bins, kind_of, too_many_levels
from chaff.methods.relevance.statistic import Measured
from chaff.methods.screen.leaks import LeakRule
from chaff.results.cuts import Cut
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep
from chaff.stats.p_adjustment import ADJUSTMENTS, adjust
from chaff.stats.paired_loss import Units
from chaff.table.shuffle import shuffled
from chaff.table.table import Table
from chaff.visible import listed
from chaff.work import Work, task

if TYPE_CHECKING:
    import pandas as pd


MANY_ROWS = 50_000  # from here on a tiny effect has a tiny p-value
LARGE_P = 0.2


@dataclass(frozen=True)
class Relevance:
    """Score each feature against the target by the statistics that fit the two kinds.

    Parameters
    ----------
    statistics : "fitting", "tests", "leading", "all", or list of names
        "tests": Pearson r, one-way F or chi-square by kind, the least that ranks every feature. "leading": these and mutual
        information. "fitting": all that fit the kinds. "all": relief and mrmr too, which use several features at once. Names and
        sources are in ``findings.more["statistics"]``.
    by : str
        Column that ranks and cuts: effect_size (|r|, √ω² or Cramér's V, one scale for all kinds), mutual_information, q, … Empty: the
        first statistic that was named, else effect_size. A feature that it does not fit is not judged, and stays.
    cut : dict or None
        Which features are kept: ``{"top": 40}``, ``{"share": 0.25}`` (rounded up), ``{"above": 0.1}``, ``{"below": 0.05}``,
        ``{"times_mean": 1.5}``; None only measures. With a cut, verdicts are in the frame.
    adjust : str
        For the q columns: benjamini_hochberg, benjamini_yekutieli, holm or bonferroni, over the features of one statistic.
    confidence : float or None
        Confidence level of the intervals, 0.95; None leaves them out.
    bins : int
        Bins of a number for the information measures and the correlation ratio.
    bin_kind : "equal counts", "equal width" or "supervised"
        "supervised" cuts where the classes change (minimum description length): a description, never with a p-value.
    missing_level : bool or None
        Whether missing is a level or bin of its own: None for categories only, True for every kind, False for none.
    pool_below : float
        Levels whose smallest expected count is below this are pooled before chi-square and G; 0 leaves the table as it is
        and `sparse_share` warns.
    neighbours : int
        For mutual information by neighbours; relief uses three times as many plus one.
    sample_rows : int
        The neighbour-based measures use a random sample of so many rows where there are more.
    places : int
        Number of features that the mrmr measures rank.
    shuffles : int
        Permuted targets for a permutation p of the measures that have none in theory; 0 leaves those blank.

    Returns
    -------
    Findings
        One row a feature: kind, rows used, leading statistic with p, q and effect size with its interval, then each statistic with
        its own columns. `ranked`, `rank`, `scaled`, `stays` and `try_limits` work on any column.

    Raises
    ------
    UsageError
        For a statistic that fits no feature (the message names those that do), or that row weights rule out.

    Notes
    -----
    Every p-value is given with its rows and an effect size. Weights are scaled to add up to the number of rows.

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=300, target="accepted")
    >>> found = chaff.relevance(table, statistics=["auc", "cramers_v"], by="effect_size", cut={"top": 5})
    >>> int((found.frame["verdict"] == "keep").sum())
    5
    """

    statistics: str | Sequence[str] = "fitting"
    by: str = ""
    cut: Mapping[str, float] | None = None
    adjust: Literal["benjamini_hochberg", "benjamini_yekutieli", "holm", "bonferroni"] = "benjamini_hochberg"
    confidence: float | None = 0.95
    bins: int = 10
    bin_kind: Literal["equal counts", "equal width", "supervised"] = "equal counts"
    missing_level: bool | None = None
    pool_below: float = 0.0
    neighbours: int = 3
    sample_rows: int = 5000
    places: int = 30
    shuffles: int = 0
    name: str = ""

    use: ClassVar[str] = "relevance"
    hint_if_empty: ClassVar[str] = "relax its cut, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        named = self.statistics
        object.__setattr__(self, "statistics", our_name(named) if isinstance(named, str) else tuple(our_name(str(n)) for n in named))
        object.__setattr__(self, "by", our_name(self.by))
        if self.cut is not None:
            Cut.from_mapping(self.cut)
        if self.adjust not in ADJUSTMENTS:
            adjust(np.empty(0), self.adjust)
        if self.confidence is not None and not 0 < self.confidence < 1:
            raise UsageError(f"relevance: confidence must be between 0 and 1, not {self.confidence}")
        for name, least in (("neighbours", 1), ("sample_rows", 50), ("places", 1), ("shuffles", 0), ("pool_below", 0)):
            if getattr(self, name) < least:
                raise UsageError(f"relevance: {name} must be {least} or more, not {getattr(self, name)}")
        check_names(self.statistics)
        check_ranking(self.ranked_by)
        check_bins(self.bins, self.bin_kind)

    @property
    def ranked_by(self) -> str:
        """The column that ranks and cuts."""
        named = named_statistics(self.statistics)
        return column_of(self.by or (named[0] if named else "effect_size"))

    def check_table(self, table: Table) -> None:
        """Whether the statistics and bins fit the table."""
        names, ranking = resolve(self.statistics, table), statistic_of(self.ranked_by)
        if ranking and ranking not in names:
            resolve([ranking], table)  # says so where it does not fit
            raise UsageError(f"features cannot be ranked by {self.ranked_by}: {ranking} is not among the statistics ({', '.join(names)})")
        if self.bin_kind == "supervised" and table.target.task == "regression":
            raise UsageError("supervised bins need classes; for a number target use equal counts or equal width")

    def able_to_rank(self, table: Table) -> Relevance:
        """The same stage with the statistic that it ranks by among those it computes."""
        names, ranking = resolve(self.statistics, table), statistic_of(self.ranked_by)
        return self if not ranking or ranking in names else replace(self, statistics=[*names, ranking])

    def never_drops(self) -> bool:
        return self.cut is None

    def uses_target(self) -> bool:
        """Only where it was given a cut: it measures otherwise."""
        return self.cut is not None

    def in_passes(self, table: Table, setting: Setting) -> bool:
        return True

    def judge(self, table: Table, setting: Setting) -> Findings:
        work = setting.work
        self.check_table(table)
        names = resolve(self.statistics, table)
        view = self.view(table, work)
        leads = leads_of(view)
        frame, more = self._measured(view, set(names) | set(leads.values()) - {""})
        shared = corrected(frame, view)
        put_leads(frame, leads)
        frame = _requested_columns(frame, names)
        self._shuffle(frame, view, set(names))
        for name in [n for n in frame.columns if n.endswith("_p") or n == "p"]:
            frame["q" if name == "p" else f"{name[:-2]}_q"] = adjust(frame[name].to_numpy(float), self.adjust)
        frame = _in_order(frame, names)
        import pandas as pd

        more["statistics"] = pd.DataFrame(described(names)).set_index("statistic")
        ways = {str(c): better(str(c)) for c in frame.columns if _ranks(str(c))}
        return Findings(
            self.use,
            frame,
            self.ranked_by,
            ways,
            asdict(self) | self._not_fitted(table),
            (*self._notes(view, frame), *led_words(leads), *shared),
            more,
        )

    def values(self, view: RelevanceData, name: str) -> pd.Series:
        """One statistic of every feature, missing where it does not fit; nothing else is computed."""
        return self._measured(view, {name})[0][name].astype(float)

    def view(self, table: Table, work: Work) -> RelevanceData:
        """What the statistics read."""
        return RelevanceData(
            table,
            work,
            self.bins,
            self.bin_kind,
            self.missing_level,
            self.confidence,
            self.pool_below,
            self.neighbours,
            self.sample_rows,
            self.places,
        )

    def _measured(self, view: RelevanceData, names: set[str]) -> tuple[pd.DataFrame, dict[str, Any]]:
        """Every statistic of those names."""
        import pandas as pd

        frame = pd.DataFrame(index=pd.Index(view.table.features, name="feature"))
        frame["kind"] = [view.table.kind(f) for f in frame.index]
        frame["rows"] = view.rows
        more: dict[str, Any] = {}
        for family in FAMILIES:
            requested = names & set(family.statistics)
            features = [f for f, kind in view.kinds.items() if (kind, view.table.target.task) in family.fits]
            if requested and features:
                result = family.measure(view, features, requested)
                measured = result if isinstance(result, Measured) else Measured(result)
                _put(frame, features, measured.columns)
                more |= measured.frames
        return frame, more

    def _shuffle(self, frame: pd.DataFrame, view: RelevanceData, names: set[str]) -> None:
        """Permutation p of what has none in theory, and one for the whole family from the largest value a shuffle gave."""
        wanted = [s.name for s in STATISTICS.values() if s.shuffles and s.name in names]
        if not self.shuffles or not wanted:
            return
        drawn = np.array(view.work.each(task(self._shuffled, view, wanted), range(self.shuffles)))
        for j, name in enumerate(wanted):
            real = frame[name].to_numpy(float)
            known = ~np.isnan(real)
            reached = (drawn[:, :, j] >= real[None]).sum(0)
            largest = (np.nanmax(drawn[:, known, j], 1)[:, None] >= real[None]).sum(0) if known.any() else reached
            frame[f"{name}_p"] = np.where(known, (1.0 + reached) / (1.0 + self.shuffles), np.nan)
            frame[f"{name}_family_p"] = np.where(known, (1.0 + largest) / (1.0 + self.shuffles), np.nan)

    def _shuffled(self, view: RelevanceData, wanted: list[str], k: int) -> Floats:
        """What the measures say of a shuffled target, (features, measures)."""
        permuted = shuffled(view.table, view.work.stream("relevance shuffle", k))
        # Bins know nothing of the target, so its shuffles share them; supervised ones are cut again.
        other = replace(view, table=permuted, memo={} if self.bin_kind == "supervised" else view.memo)
        measured: Floats = self._measured(other, set(wanted))[0][wanted].to_numpy(float)
        return measured

    def _notes(self, view: RelevanceData, frame: pd.DataFrame) -> tuple[str, ...]:
        rows = len(view.table)
        notes = [f"{rows:,} rows"]
        if rows >= MANY_ROWS:
            notes.append("with so many rows nearly every feature is significant; rank by effect size instead")
        sparse = frame.index[frame["sparse_share"] > 0.2].tolist() if "sparse_share" in frame else []
        if sparse:
            notes.append(
                f"expected counts below 5 in more than a fifth of the cells of {listed(sparse)}: p by permutation there, ≤ is a bound"
            )
        if "mutual_information_neighbours" in frame and rows > self.sample_rows:
            notes.append(f"neighbour measures on a random draw of {self.sample_rows:,} rows")
        seldom = [f for f in view.of_kind("category") if too_many_levels(view.table, f)]
        if seldom and "mutual_information" in frame:
            notes.append(
                f"the levels of {listed(seldom)} have fewer than {FEWEST_A_LEVEL} rows per level; mutual information and gain are biased "
                "upwards, and mrmr leaves them out"
            )
        if self.shuffles and frame.shape[0] > 0.05 * (self.shuffles + 1):
            need = int(np.ceil(frame.shape[0] / 0.05)) - 1
            notes.append(
                f"{self.shuffles} permutations are too few to adjust single p-values over {frame.shape[0]} features "
                f"(that takes {need:,}): use the _family_p columns (maximum over features per permutation)"
            )
        unfit = self._not_fitted(view.table).get("not_fitted", ())
        if unfit:
            stay = ", and stay" if self.cut else ""
            notes.append(f"{self.ranked_by} does not fit {listed(unfit)}: not judged{stay} (--by effect_size judges every kind)")
        loose = (self.cut or {}).get("below", 0.0) > LARGE_P and better(self.ranked_by) == "lower" and self.ranked_by not in STATISTICS
        if self.cut and loose:
            notes.append(f"a limit of {self.cut['below']:g} on {self.ranked_by} keeps many null features")
        return tuple(notes + _too_good(frame, view))

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        by = self.ranked_by
        values = result.frame[by]
        figures = {f: f"{by} {v:.3g}" if v == v else "" for f, v in values.items()}
        if self.cut is None:
            return tuple(keep(str(f), self.use, figures[f]) for f in values.index)
        cut = Cut.from_mapping(self.cut)
        stays, unfit = set(result.stays(cut, by)), set(result.settings.get("not_fitted", ()))
        return tuple(self._verdict(str(f), figures[f], cut, f in stays, f in unfit, str(result.frame.at[f, "kind"])) for f in values.index)

    def _verdict(self, f: str, figure: str, cut: Cut, stays: bool, unfit: bool, kind: str) -> Verdict:
        by = self.ranked_by
        if unfit:
            return keep(f, self.use, "", str(cut), f"not judged: {by} does not fit a {kind} (by effect_size every kind is judged)")
        if stays:
            return keep(f, self.use, figure, str(cut))
        return drop(f, self.use, figure, str(cut), f"not in {cut} by {by}" if figure else f"no value of {by}")

    def _not_fitted(self, table: Table) -> dict[str, tuple[str, ...]]:
        """Features that the ranking statistic does not fit, where there are any."""
        ranking = statistic_of(self.ranked_by)
        pairs = {f: (kind_of(table, f), table.target.task) for f in table.features}
        unfit = tuple(f for f, pair in pairs.items() if ranking and pair[0] and pair not in STATISTICS[ranking].fits)
        return {"not_fitted": unfit} if unfit else {}


def _put(frame: pd.DataFrame, features: list[str], columns: Mapping[str, Any]) -> None:
    places = frame.index.get_indexer(features)
    for name, values in columns.items():
        if name in ("kind", "rows"):  # the stage's own: no family may say otherwise
            continue
        if name not in frame.columns:
            frame[name] = "" if name == "auc_class" else np.nan
        frame.iloc[places, frame.columns.get_loc(name)] = values


def _requested_columns(frame: pd.DataFrame, names: Sequence[str]) -> pd.DataFrame:
    """What only served the leading test is left out."""
    requested = {c for c in frame.columns for n in names if c == n or belongs(str(c), n)}
    first = ["kind", "rows", "statistic", *COLUMNS]
    return frame[[*first, *(c for c in frame.columns if c in requested and c not in first)]]


def _too_good(frame: pd.DataFrame, view: RelevanceData) -> list[str]:
    """A leak floats to the top: say so where a feature is too good to be true."""
    explained = {str(f): float(v) ** 2 for f, v in frame["effect_size"].dropna().items()}
    if not view.regression:  # between classes it is the feature that is explained: ask the other way round
        explained = share_of_classes(view, list(explained))
    suspects = LeakRule(not view.regression).suspects(explained)
    return [f"{f} {s.reason} chaff.screen looks closer" for f, s in suspects.items()]


def _ranks(column: str) -> bool:
    """Whether a column says something that features can be ranked by."""
    return column not in ("kind", "rows", "statistic", "auc_class", "sparse_share", "p_at_most") and not column.endswith(
        ("_low", "_high", "_df", "_df_within", "_rows", "_class")
    )


def _in_order(frame: pd.DataFrame, names: Sequence[str]) -> pd.DataFrame:
    """Each statistic's own columns side by side."""
    first = ["kind", "rows", "statistic", "p", "q", "effect_size", "effect_size_low", "effect_size_high"]
    rest = [c for n in names for c in frame.columns if belongs(str(c), n)]
    return frame[list(dict.fromkeys([*first, *rest]))].copy()


def effect_sizes(table: Table, setting: Setting, features: Sequence[str]) -> dict[str, float]:
    """Effect size of each feature: from the relevance stage when it ran before, measured now otherwise; 0 without a target."""
    if not table.has_target:
        return dict.fromkeys(features, 0.0)
    earlier = setting.earlier.get("relevance")
    if earlier is None or not set(features) <= set(earlier.frame.index):
        subset = replace(table.with_features(features), groups_all=None, order_all=None)  # which change p-values, and take time
        earlier = Relevance("tests").judge(subset, setting)
    return {f: float(np.nan_to_num(earlier.frame.loc[f, "effect_size"])) for f in features}


PRIOR = 4.0  # rows of nothing that every cell's mean is drawn towards
LEVEL = 0.05


def confirmed(a: Bytes, b: Bytes, rest: Floats, parts: Ints, units: Units) -> bool:
    """Whether the cells of two columns of codes, beyond a part for each column, predict `rest` on the other folds.

    rest : float64 (targets, rows), what an additive model left.  One-sided, at 5 %, counting what is independent.
    """
    gain = np.zeros(a.size)
    for k in range(int(parts.max()) + 1):
        train, test = np.flatnonzero(parts != k), np.flatnonzero(parts == k)
        if not train.size or not test.size:
            continue
        for target in rest:
            alone, together = _cells(a[train], b[train], target[train])
            at = (a[test], b[test])
            off = target[test] - alone[at]
            gain[test] += off**2 - (off - together[at]) ** 2
    return units.mean(gain).p_above(0.0) < LEVEL


def _cells(a: Bytes, b: Bytes, target: Floats) -> tuple[Floats, Floats]:
    """(16, 16): what a part for each column adds up to in each cell, and what the cell's own mean adds to it."""
    cell = a.astype(np.int64) * SIDE + b
    counts = np.bincount(cell, minlength=SIDE * SIDE).reshape(SIDE, SIDE).astype(float)
    sums = np.bincount(cell, target, SIDE * SIDE).reshape(SIDE, SIDE)
    of_a, of_b = counts.sum(1), counts.sum(0)
    rows, columns = of_a > 0, of_b > 0
    normal = np.block([[np.diag(of_a[rows]), counts[np.ix_(rows, columns)]], [counts[np.ix_(rows, columns)].T, np.diag(of_b[columns])]])
    parts = np.linalg.lstsq(normal, np.r_[sums.sum(1)[rows], sums.sum(0)[columns]], rcond=None)[0]
    alone = np.zeros((SIDE, SIDE))
    alone[rows] += parts[: rows.sum(), None]
    alone[:, columns] += parts[rows.sum() :]
    together = (sums - counts * alone) / (counts + PRIOR)
    return alone, together
