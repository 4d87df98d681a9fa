"""Knockoffs: copies of the columns that know nothing of the target, and columns that beat their copies at a rate of false picks."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np
import scipy

from chaff.arrays import Floats, Ints
from chaff.errors import DataError, UsageError
from chaff.evaluate.setting import Setting
from chaff.models.forest import Forest
from chaff.models.forms import sample
from chaff.models.penalised import Lasso
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep, review
from chaff.stats.correlation_matrices import shrinkage
from chaff.stats.inflation import dependent_columns
from chaff.stats.knockoffs import FORMS, Form, beyond, copies, distances, e_values, threshold
from chaff.table.opening import open_arrays
from chaff.table.table import Table
from chaff.visible import listed
from chaff.work import Work, task

SKEWED, HEAVY = 1.0, 3.0
FEW_VALUES = 10
APART = 4.0  # standard errors by which squares go together more than normal columns' would
BADLY, ROUGHLY = 0.3, 0.1  # shares of the columns, or of the pairs


def far_columns(Z: Floats) -> list[int]:
    """Columns that are skewed, heavy-tailed or of few values; Z standardised, float64 (n, p)."""
    out = []
    for j, z in enumerate(Z.T):
        skew, kurtosis = float((z**3).mean()), float((z**4).mean()) - 3
        if abs(skew) > SKEWED or kurtosis > HEAVY or np.unique(z).size < FEW_VALUES:
            out.append(j)
    return out


def strange_pairs(Z: Floats, C: Floats) -> float:
    """Share of pairs whose squares go together other than normal columns' with this correlation: theirs correlate by its square."""
    p = Z.shape[1]
    if p < 2:
        return 0.0
    S = Z**2 - (Z**2).mean(0)
    size = np.sqrt((S**2).sum(0))
    S = S / np.where(size > 1e-9, size, 1.0)
    Q = S.T @ S
    off = np.triu_indices(p, 1)
    return float((np.abs(Q[off] - C[off] ** 2) > APART / np.sqrt(len(Z))).mean())


def fit_in_words(Z: Floats, C: Floats, names: list[str]) -> str:
    far, strange = far_columns(Z), strange_pairs(Z, C)
    share = len(far) / max(1, len(names))
    word = "badly" if max(share, strange) > BADLY else "roughly" if max(share, strange) > ROUGHLY else "well"
    out = f"the normal law fits these columns {word}"
    if far:
        subset = ", ".join(names[j] for j in far[:3]) + (f" and {len(far) - 3} more" if len(far) > 3 else "")
        out += f": {subset} {'are' if len(far) > 1 else 'is'} skewed, heavy-tailed or of few values"
    if strange > ROUGHLY:
        out += f"; {strange:.0%} of the pairs bend together"
    return out + ("" if word == "well" else "; the rate is not promised then (marginals='normal scores' mends single columns)")


LEAST_ROWS = 20
MOST_VIF = 1000.0  # beyond, a copy could stand so little apart that nothing is ever told
ROWS_A_COLUMN = 2  # from which correlations are taken as they are
TREES, DEPTH, LEAF_ROWS = 300, 8, 10
RUN_SHARE = 0.75  # of q, the level of each of several runs: at q itself hardly any e-value would be large enough in the mean
STATISTICS = ("lasso difference", "forest difference")


@dataclass(frozen=True)
class Knockoffs:
    """Select the features that beat their knockoff copies, with a limit on the share of false selections.

    Parameters
    ----------
    q : float
        False discovery rate that is allowed, between 0 and 1.
    statistic : "lasso difference" or "forest difference"
        Coefficient of the feature minus that of its copy, at the penalty that inner folds choose (classes as 0/1 numbers); or what
        the splits of a forest on both explain.
    form : "minimum reconstructability", "semidefinite" or "equicorrelated"
        How the distance between copies and originals is chosen.
    marginals : "as they are" or "normal scores"
        Whether each feature is transformed to normal scores first, for features that are far from normal.
    runs : int
        Times the copies are drawn. With 1 the result is that of knockoff+; with more, e-values are averaged, so that the result depends
        less on the draw.

    Returns
    -------
    Findings
        One row a feature: difference (importance of the feature minus that of its copy, mean over runs), difference_sd,
        selection_frequency (of the runs), e_value, apart (variance of the copy that the original does not explain; near 0 there is
        no power), verdict. No feature is a possible result: q = 0.1 selects at least ten or none (14 where there are several runs).
        A note gives the fit of the normal distribution to the features.

    Raises
    ------
    UsageError, DataError
        For categories, for dependent rows (groups, order, weights), for more features than rows; the message names what is possible.

    Notes
    -----
    Numbers only; the rate needs twice as many rows as features. Exact combinations of other features are left out first, missing
    values are filled by the median. A false selection is a feature without effect *given all others*; a proxy is one. Source:
    Barber and Candès, 2015; Candès, Fan, Janson and Lv, 2018; Spector and Janson, 2022; Ren and Barber, 2024.

    Examples
    --------
    >>> import chaff
    >>> import numpy as np
    >>> X = np.random.default_rng(0).normal(size=(200, 12))
    >>> table = chaff.open_arrays(X, X[:, :8].sum(1) + np.random.default_rng(1).normal(size=200))
    >>> found = chaff.knockoffs(table, q=0.2, runs=5)
    >>> found.frame["stays"].sum() >= 8
    np.True_
    """

    q: float = 0.1
    statistic: Literal["lasso difference", "forest difference"] = "lasso difference"
    form: Form = "minimum reconstructability"
    marginals: Literal["as they are", "normal scores"] = "as they are"
    runs: int = 10
    name: str = ""

    use: ClassVar[str] = "knockoffs"
    hint_if_empty: ClassVar[str] = "raise its q, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if not 0 < self.q < 1:
            raise UsageError(
                f"knockoffs: q must be between 0 and 1, not {self.q}: at 0 nothing is ever picked, at 1 everything may be false"
            )
        if self.statistic not in STATISTICS or self.form not in FORMS or self.marginals not in ("as they are", "normal scores"):
            raise UsageError(
                f"knockoffs: statistic is one of {', '.join(STATISTICS)}; form of {', '.join(FORMS)}; marginals "
                "'as they are' or 'normal scores'"
            )
        if self.runs < 1:
            raise UsageError(f"knockoffs: runs must be 1 or more, not {self.runs}")

    def uses_target(self) -> bool:
        return True

    def check_table(self, table: Table) -> None:
        """Numbers, independent rows, and more rows than columns."""
        others = [f for f in table.features if table.kind(f) != "number"]
        if others:
            subset = listed(others, 4)
            raise UsageError(
                f"knockoffs: {subset}: only numbers have Gaussian copies, a category's levels have none. Pass the "
                "numbers alone (features=[…], --ignore the others), and judge categories by `chance` or `twins`"
            )
        roles = [w for w, r in (("groups", table.groups), ("an order", table.order), ("weights", table.weights)) if r is not None]
        if roles:
            raise UsageError(
                f"knockoffs: the rows have {' and '.join(roles)}, but copies are drawn row by row as if rows were independent and alike; "
                "`chance` and `twins` follow groups and time"
            )

    def judge(self, table: Table, setting: Setting) -> Findings:
        self.check_table(table)
        n = len(table)
        if n < LEAST_ROWS:
            raise DataError(f"knockoffs: {n:,} rows are too few to learn how columns go together: at least {LEAST_ROWS}")
        names = sorted(table.features)
        Z, gaps = standardised(table, names, self.marginals == "normal scores")
        if len(names) >= n:
            raise DataError(
                f"knockoffs: {len(names):,} columns on {n:,} rows: how they go together cannot be learned. Possible here: at most "
                f"{n // ROWS_A_COLUMN:,} columns (choose them without the target, or on other rows), or `chance`, which knows no such limit"
            )
        used, pruned = independent(Z)
        if not used.size:
            raise DataError("knockoffs: no feature is left that varies: there is nothing to judge")
        Z = Z[:, used]
        C, share = correlations(Z)
        s = distances(C, self.form)
        units = [(k, setting.work.key("knockoffs", k)) for k in range(self.runs)]
        result = setting.work.each(task(_differences, self, table, Z, C, s), units, "knockoffs")
        return self._findings(table, [names[k] for k in used], [names[k] for k in pruned], np.array(result), s, Z, C, share, gaps)

    def _findings(
        self, table: Table, used: list[str], pruned: list[str], W: Floats, s: Floats, Z: Floats, C: Floats, share: float, gaps: list[str]
    ) -> Findings:  # fmt: skip
        import pandas as pd

        level = RUN_SHARE * self.q if self.runs > 1 else self.q
        e = np.array([e_values(w, level) for w in W])
        kept = beyond(e.mean(0), self.q) if self.runs > 1 else W[0] >= threshold(W[0], self.q)
        frame = pd.DataFrame(index=pd.Index(table.features, name="feature"))
        for name, values in (
            ("difference", W.mean(0)), ("difference_sd", W.std(0, ddof=1) if self.runs > 1 else np.full(len(used), np.nan)),
            ("selection_frequency", (e > 0).mean(0)), ("e_value", e.mean(0)), ("apart", s), ("picked", kept.astype(float)),
        ):  # fmt: skip
            frame[name] = pd.Series(values, used).reindex(frame.index)
        words = fit_in_words(Z, C, used)
        notes = [f"{int(kept.sum())} of {len(used)} features selected at q = {self.q:g} ({self.statistic}, {self.form}, {self.runs} runs)"]
        if not kept.any():
            notes.append(
                f"nothing selected; at q = {self.q:g} the method selects at least {int(np.ceil(1 / level - 1e-9))} features or none"
                + (f" in a run; {int(np.ceil(1 / self.q - 1e-9))} where runs = 1" if self.runs > 1 else "")
            )
        notes.append(words)
        if pruned:
            notes.append(
                f"{', '.join(pruned[:4])}{' and more' if len(pruned) > 4 else ''}: combinations of other columns, or all but "
                f"(VIF over {MOST_VIF:,.0f}), left out first"
            )
        if share > 0:
            notes.append(f"with fewer than two rows a column correlations were shrunk by {share:.2f}: the rate was not measured there")
        if gaps:
            notes.append(f"missing values of {', '.join(gaps[:4])}{' and more' if len(gaps) > 4 else ''} were filled by the median")
        settings = {"q": self.q, "statistic": self.statistic, "form": self.form, "marginals": self.marginals, "runs": self.runs}
        by_run = pd.DataFrame(W.T, index=pd.Index(used, name="feature"), columns=range(1, self.runs + 1))
        better: Any = {"difference": "higher", "e_value": "higher", "selection_frequency": "higher"}
        return Findings(self.use, frame, "e_value" if self.runs > 1 else "difference", better, settings, tuple(notes), {"runs": by_run})

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        out = []
        for f, r in result.frame.iterrows():
            figure, limit = (
                f"beats its copies by {r['difference']:.3g}, picked in {r['selection_frequency']:.0%} of the runs",
                f"q {self.q:g}",
            )
            if np.isnan(r["difference"]):
                out.append(
                    review(str(f), self.use, "", limit, "a combination of other features, or nearly: it cannot be tested", stays=True)
                )
            elif r["picked"] > 0:
                out.append(keep(str(f), self.use, figure, limit, "beyond its knockoffs"))
            else:
                out.append(drop(str(f), self.use, figure, limit, "not beyond its knockoffs"))
        return tuple(out)


def standardised(table: Table, names: list[str], normal_scores: bool) -> tuple[Floats, list[str]]:
    """(columns of mean 0 and spread 1, float64 (n, p), constant ones 0; which had gaps)."""
    Z, gaps = np.empty((len(table), len(names))), []
    for j, name in enumerate(names):
        x = table.column(name).values.copy()
        missing = np.isnan(x)
        if missing.any():
            gaps.append(name)
            x[missing] = np.median(x[~missing]) if not missing.all() else 0.0
        if normal_scores:
            _, at, count = np.unique(x, return_inverse=True, return_counts=True)
            ranks = np.cumsum(count) - (count - 1) / 2  # the mean of those that share a place
            x = scipy.special.ndtri(ranks[at] / (x.size + 1))
        spread = x.std(ddof=1)
        Z[:, j] = (x - x.mean()) / spread if spread > 0 else 0.0
    return Z, gaps


def independent(Z: Floats) -> tuple[Ints, Ints]:
    """(columns that are left, those that went): of every exact dependency the last by name, then the largest VIF over the limit."""
    alive = [k for k in range(Z.shape[1]) if Z[:, k].any()]
    while len(alive) > 1:
        C = np.atleast_2d(np.corrcoef(Z[:, alive], rowvar=False))
        involved = dependent_columns(C)
        if involved.size:
            alive.pop(int(involved[-1]))
            continue
        vif = np.diag(np.linalg.inv(C)) if len(Z) > ROWS_A_COLUMN * len(alive) else np.ones(len(alive))
        if vif.max() <= MOST_VIF:
            break
        alive.pop(int(np.flatnonzero(vif > vif.max() * (1 - 1e-6))[-1]))
    used = np.array(alive, np.int64)
    return used, np.setdiff1d(np.arange(Z.shape[1]), used)


def correlations(Z: Floats) -> tuple[Floats, float]:
    """Correlations, shrunk where rows are few, and by what share."""
    n, p = Z.shape
    C = np.atleast_2d(np.corrcoef(Z, rowvar=False))
    share = shrinkage(Z.T) if n < ROWS_A_COLUMN * p else 0.0
    C = (1 - share) * C
    np.fill_diagonal(C, 1.0)
    return C, share


def _differences(stage: Knockoffs, table: Table, Z: Floats, C: Floats, s: Floats, unit: tuple[int, int]) -> Floats:
    """What each column is worth less what its copy is, float64 (p,), with copies of one run."""
    _, key = unit
    work, p = Work(key, 1), Z.shape[1]
    swap = work.stream("sides").random(p) < 0.5  # neither side is first, so that no tie ever favours originals
    beside = copies(Z, C, s, work.stream("copies"))
    left, right = np.where(swap, beside, Z), np.where(swap, Z, beside)
    worth = np.zeros(2 * p)
    for y in _targets(table, stage.statistic):
        both = open_arrays(np.hstack([left, right]), y, names=[f"c{k:05}" for k in range(2 * p)])
        if stage.statistic == "lasso difference":
            worth += np.abs(Lasso().fit(sample(both, "design"), work).importance())
        else:
            forest = Forest(TREES, int(np.ceil(np.sqrt(2 * p))), LEAF_ROWS, DEPTH)
            worth += forest.fit(sample(both, "bins"), work).importance()
    difference = worth[:p] - worth[p:]
    return np.where(swap, -difference, difference)


def _targets(table: Table, statistic: str) -> list[Any]:
    """What the statistic is computed on: the number, an indicator of each class, or the classes themselves."""
    if table.target.task == "regression":
        return [table.y]
    if statistic == "lasso difference":
        return [t + np.linspace(0, 1e-9, t.size) for t in table.targets.T]  # a hair, so that 0 and 1 are read as numbers
    return [np.array(table.target.classes, object)[table.y.astype(int)]]
