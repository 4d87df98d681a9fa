"""Shuffled target: what a measure gives by chance, from the same computation on targets that were permuted."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal

import numpy as np

from chaff.arrays import Flags, Floats
from chaff.choices import plan_value
from chaff.errors import DataError, UsageError, nearest
from chaff.evaluate.setting import Setting
from chaff.methods.chance.measures import Measure, OfModel, as_measure
from chaff.methods.importance.way import Way
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep, review
from chaff.stats.p_adjustment import AgainstChance, against_chance, benjamini_hochberg, shuffles_to_adjust
from chaff.table.shuffle import BLIND, NOT_JUDGED, TargetOrders, blind_columns, names_where, target_orders
from chaff.table.table import Table

RULES = ("standard_deviations", "maximum")
LIMITS = (1.0, 1.5, 2.0, 2.5, 3.0, 3.5, 4.0, 5.0)  # standard deviations that are always counted
LEAST_ROWS = 20
LEAST_SHUFFLES = 3


@dataclass(frozen=True)
class ChanceBaseline:
    """Compare a measure on the real target with the same measure on permuted targets: which features exceed chance.

    Parameters
    ----------
    by : str, way or dict
        "split standing": the variance that a feature explains at best at each node of 1,500 trees of two levels, three features a tree,
        the same trees for all targets; a statistic of `chaff.relevance`, such as "mutual_information"; or a way of
        `chaff.importance`, such as "permutation".
    model : model, str or dict
        What is fitted, for ways of importance.
    shuffles : int
        Permuted targets; where fewer permutations differ, all of them are used and a note reports it.
    seeds : int
        Times the real target is measured, which gives its SD; split standing divides its trees among them.
    keep : dict or None
        ``{"standard_deviations": 3}``: more than so many SD above the permutation mean. ``{"maximum": 0.05}``: the p of the largest score
        over all features is at most this, so that at most 5 % of tables without effect keep anything. None only measures.
    trees : int
        Of split standing, over all seeds; more where a feature would be at fewer than ten nodes.
    draws : "shared" or "independent"
        Whether all targets share the draws of features (several times faster; real and permuted targets stay exchangeable given the
        draws), or each has its own.
    alpha : float
        For the adjusted p-values, which are given only where the permutations suffice.

    Returns
    -------
    Findings
        One row a feature: importance (mean over seeds, with its SD), chance_mean, chance_sd, chance_largest, standard_score,
        p = (1 + permutations at least as large) / (1 + permutations), family_p (of the largest score over all features), q, verdict.
        ``more["limits"]`` gives the number of features above 2, 2.5, 3, … SD and the number expected under permutation, counted from
        the permutations; ``more["shuffles"]`` has the values of every permutation.

    Raises
    ------
    UsageError, DataError
        When no permutation changes the target, or for fewer than 20 rows.

    Notes
    -----
    With row groups, targets are permuted within them (whole groups are exchanged where the target is constant in a group). With an
    order, the target series is shifted. A weight stays with its target. Whatever is learned from the target is learned again on
    every permutation; bins made without it are shared. Significant means: associated with the target at all, alone or together
    with others, so a proxy is significant. Source: Westfall and Young, 1993 (the maximum); Phipson and Smyth, 2010 (p is never 0).

    Examples
    --------
    >>> import chaff
    >>> lots = chaff.demo.table(rows=300).with_features(["protein_pct", "ash_pct", "lab_temp_c", "line_voltage_v"])
    >>> found = chaff.chance_baseline(lots, keep={"maximum": 0.05})
    >>> list(found.frame.index[found.frame["stays"]])
    ['protein_pct', 'ash_pct']
    >>> found.more["limits"].loc[3, "beyond"]
    np.int64(2)
    """

    by: Way | str | Mapping[str, Any] = "split standing"
    model: Model | str | Mapping[str, Any] = "forest"
    shuffles: int = 50
    seeds: int = 5
    keep: Mapping[str, float] | None = field(default_factory=lambda: {"standard_deviations": 3.0})
    trees: int = 1500
    draws: Literal["shared", "independent"] = "shared"
    alpha: float = 0.05
    name: str = ""

    use: ClassVar[str] = "chance"
    hint_if_empty: ClassVar[str] = "ask for fewer standard deviations (keep), or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.shuffles < LEAST_SHUFFLES or self.seeds < 1 or self.trees < self.seeds:
            raise UsageError(f"chance: shuffles must be {LEAST_SHUFFLES} or more, seeds 1 or more, trees at least as many as seeds")
        if not 0 < self.alpha < 1:
            raise UsageError(f"chance: alpha must be between 0 and 1, not {self.alpha}")
        if self.draws not in ("shared", "independent"):
            raise UsageError(f"chance: draws must be 'shared' or 'independent', not {self.draws!r}")
        if self.keep is not None:
            check_keep(self.keep)
        object.__setattr__(self, "model", as_model(self.model))
        self.measure  # noqa: B018  says what is wrong with `by`

    @property
    def measure(self) -> Measure:
        return as_measure(self.by, self.model, self.trees, self.draws == "independent")

    def uses_target(self) -> bool:
        """Only where it was told what to keep: it measures otherwise."""
        return self.keep is not None

    def judge(self, table: Table, setting: Setting) -> Findings:
        if len(table) < LEAST_ROWS:
            raise DataError(f"chance: {len(table):,} rows are too few to say what chance gives: at least {LEAST_ROWS}")
        orders = target_orders(table, self.shuffles, setting.work, "chance")
        if len(orders.orders) < LEAST_SHUFFLES:
            raise DataError(f"chance: only {len(orders.orders)} permutations of {table.target.name} differ ({orders.how}): too few")
        real, shuffled = self.measure.measure(table, orders.orders, self.seeds, setting)
        blind = blind_columns(table) if orders.within else np.zeros(len(table.features), bool)
        real, shuffled = np.where(blind, np.nan, real), np.where(blind, np.nan, shuffled)
        mean, spread = _over_seeds(real)
        return self._findings(table, (mean, spread, real), shuffled, against_chance(mean, shuffled), orders, blind)

    def _findings(
        self, table: Table, measured: tuple[Floats, Floats, Floats], shuffled: Floats, result: AgainstChance, orders: TargetOrders,
        blind: Flags,
    ) -> Findings:  # fmt: skip
        """measured : mean and spread over seeds, (features,), and every seed, (seeds, features)."""
        import pandas as pd

        mean, spread, real = measured

        frame = pd.DataFrame(index=pd.Index(table.features, name="feature"))
        frame["importance"], frame["importance_sd"] = mean, spread
        frame["chance_mean"], frame["chance_sd"], frame["chance_largest"] = result.mean, result.sd, result.largest
        frame["standard_score"], frame["p"], frame["family_p"] = result.score, result.p, result.family_p
        frame["not_judged"] = blind
        need = shuffles_to_adjust(int((~np.isnan(result.p)).sum()), self.alpha)
        enough = len(shuffled) >= need
        frame["q"] = benjamini_hochberg(result.p) if enough else np.nan
        limits = sorted({*LIMITS, *([self.keep["standard_deviations"]] if self.keep and "standard_deviations" in self.keep else [])})
        more = {
            "limits": limits_table(frame["standard_score"].to_numpy(float), result.chance_scores, limits),
            "shuffles": pd.DataFrame(shuffled.T, index=frame.index, columns=[f"shuffle {k}" for k in range(1, len(shuffled) + 1)]),
            "chance_scores": pd.DataFrame(result.chance_scores.T, index=frame.index),
            "by_seed": pd.DataFrame(real.T, index=frame.index, columns=[f"seed {k}" for k in range(1, len(real) + 1)]),
        }
        model = plan_value(self.model, "label") if isinstance(self.measure, OfModel) else None
        settings = {
            "by": self.measure.label, "model": model, "shuffles": len(shuffled), "seeds": len(real),
            "keep": dict(self.keep) if self.keep else None, "draws": self.draws, "how": orders.how,
        }  # fmt: skip
        notes = _notes(table, frame, orders, self.shuffles, need, blind)
        better: Any = {"importance": "higher", "standard_score": "higher", "p": "lower", "family_p": "lower", "q": "lower"}
        return Findings(self.use, frame, "standard_score", better, settings, notes, more)

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        out = []
        for f, r in result.frame.iterrows():
            name, score = str(f), float(r["standard_score"])
            figure = f"{score:.1f} standard deviations above the permutations, family-wise p {r['family_p']:.2g}"
            if np.isnan(score):
                words = f"{NOT_JUDGED}: {BLIND}, which permutations keep together" if r["not_judged"] else f"{NOT_JUDGED}: it has no value"
                out.append(review(name, self.use, NOT_JUDGED, "", words, stays=True))
            elif self.keep is None:
                out.append(keep(name, self.use, figure, "", "significant" if r["family_p"] <= self.alpha else "not significant"))
            elif _beyond(self.keep, score, float(r["family_p"])):
                out.append(keep(name, self.use, figure, _limit(self.keep), "significant"))
            else:
                out.append(drop(name, self.use, figure, _limit(self.keep), "not significant"))
        return tuple(out)


def check_keep(given: Mapping[str, float]) -> None:
    """One rule and its number."""
    if len(given) != 1:
        raise UsageError("chance: keep is one rule and its number, { standard_deviations = 3 } or { maximum = 0.05 }")
    ((rule, value),) = given.items()
    if rule not in RULES:
        raise UsageError(f"chance: unknown rule '{rule}'; choose from {', '.join(RULES)}.{nearest(rule, RULES)}")
    if value != value or (rule == "maximum" and not 0 < value < 1):
        raise UsageError(f"chance: {rule} must be {'between 0 and 1' if rule == 'maximum' else 'a number'}, not {value}")


def _over_seeds(real: Floats) -> tuple[Floats, Floats]:
    """Mean and standard deviation of what was measured, (features,) each; NaN where nothing was, or once only."""
    known = ~np.isnan(real)
    count = known.sum(0)
    mean = np.divide(np.where(known, real, 0.0).sum(0), count, out=np.full(count.shape, np.nan), where=count > 0)
    squares = np.where(known, real - np.nan_to_num(mean), 0.0) ** 2
    return mean, np.sqrt(np.divide(squares.sum(0), count - 1, out=np.full(count.shape, np.nan), where=count > 1))


def _beyond(rule: Mapping[str, float], score: float, family_p: float) -> bool:
    return score > rule["standard_deviations"] if "standard_deviations" in rule else family_p <= rule["maximum"]


def _limit(rule: Mapping[str, float]) -> str:
    ((name, value),) = rule.items()
    return f"{value:g} standard deviations" if name == "standard_deviations" else f"family p {value:g}"


def limits_table(score: Floats, chance_scores: Floats, limits: Any) -> Any:
    """How many columns lie beyond so many standard deviations, and how many do in a shuffle; frame indexed by limit."""
    import pandas as pd

    rows = [
        (float(k), int((score > k).sum()), float((chance_scores > k).sum() / len(chance_scores)), int((chance_scores > k).sum(1).max()))
        for k in limits
    ]
    return pd.DataFrame(rows, columns=["standard deviations", "beyond", "by_chance", "by_chance_at_most"]).set_index("standard deviations")


def _notes(table: Table, frame: Any, orders: TargetOrders, requested: int, need: int, blind: Flags) -> tuple[str, ...]:
    count = len(orders.orders)
    notes = [
        (
            f"{count} permutations of {table.target.name} ({orders.how}) on {len(table):,} rows; features that are "
            "only correlated with a true predictor can be significant too"
        )
    ]
    if orders.all_there_are:
        notes.append(
            f"{requested} permutations were asked for, only {count} differ: all were used, and no p is below {1 / (1 + count):.2g}"
        )
    if count < need:
        notes.append(
            f"{count} permutations are too few for feature-wise adjusted p-values over "
            f"{int(frame['p'].notna().sum())} features (that takes {need:,}): "
            "use the FWER p (family_p)"
        )
    if blind.any():
        notes.append(
            f"{NOT_JUDGED}, and so neither kept nor dropped by this: {names_where(table, blind)}; {BLIND}, which permutations keep together"
        )
    return tuple(notes)
