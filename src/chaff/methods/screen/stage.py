"""Screen: throw out what cannot help, bar what looks like a leak or an id, and never drop silently.

What is dropped cannot help whatever the model: one value, empty, another column over again. A column that is mostly missing,
mostly one value or nearly without spread is doubtful: the user should look, and is told whether that very thing tells
something about the target; it stays in, and the search decides.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np

from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.methods.screen.advice import advice_for, in_python
from chaff.methods.screen.facts import Facts, column_facts, nearly_id
from chaff.methods.screen.ids_and_groups import group_words, named_as_id
from chaff.methods.screen.leaks import NEARLY_ALL, SAME_CELLS, LeakRule, Suspicion, joint_r2, parted, rank_r2, same_cells, sums_to_target
from chaff.methods.screen.missingness_signal import missingness_signals
from chaff.methods.screen.remarks import mentions
from chaff.methods.screen.repeats import repeats
from chaff.methods.screen.row_checks import row_checks
from chaff.methods.screen.single_feature_r2 import single_feature_r2
from chaff.methods.screen.target_copies import echo_of
from chaff.results.findings import Better, Findings
from chaff.results.verdict import Verdict, drop, keep, review
from chaff.table.table import Table
from chaff.work import Work, task

if TYPE_CHECKING:
    import pandas as pd

LEAKAGE_R2, LEAST_OF_A_SUM = 0.5, 0.05  # one-feature R², from which a leak is looked for
LITTLE = 0.01  # SD for its size, under which the steps between values are counted
NO_RELATION = 0.01  # cross-validated one-feature R²
Row = Mapping[str, Any]
BETTER: dict[str, Better] = {
    "missing_share": "lower",
    "top_share": "lower",
    "outlying_share": "lower",
    "distinct": "higher",
    "distinct_share": "higher",
    "spread": "higher",
    "relative_spread": "higher",
    "quartile_range": "higher",
    "skew": "magnitude",
    "single_r2": "higher",
    "rows": "higher",
}


@dataclass(frozen=True)
class Screen:
    """Check the table first: what every column holds, which cannot help, which look like ids, which may leak the target.

    A limit of None switches the check off. "Review" below is the verdict; a blocked feature is not used until it is pinned in.

    Parameters
    ----------
    missing_share : float or None
        A feature with a larger share missing is doubtful; the reason says whether missingness is associated with the target.
    top_share : float or None
        The same for a feature of which one value has a larger share.
    relative_spread : float or None
        The same for a number whose SD, divided by the largest of |mean|, |median| and the smallest step between its values (the
        coefficient of variation, finite near a mean of zero), is smaller. None: little spread for its size is no fault.
    least_steps : float or None
        The same for a number whose SD is under 1 % of its size and under so many steps between its values: too few digits are left.
    spread : float or None
        A number whose SD is no larger is dropped as constant.
    id_share : float or None
        Running numbers, codes and words with a larger share of distinct values are ids: review, blocked.
    level_share : float or None
        A category with more levels than this share of its rows is dropped: too few rows per level.
    too_good : float or None
        R² of the feature alone (of ranks, where larger) from which leakage is suspected: review, blocked where all unsuspected features
        together leave three times as much unexplained.
    far_above : float or None
        Also review, but used: the best feature when its R² is this many times that of the next, from R² 0.8 (0.5 for classes, whose
        indicators no feature predicts perfectly).
    tells_p, tells_effect : float
        Missingness (or the rare value) is informative when its Holm-adjusted p is below `tells_p` and its effect size at least
        `tells_effect`.
    doubtful : "review" or "drop"
        Verdict on a doubtful feature (missing_share, top_share, relative_spread, least_steps): review and used, or dropped unless that very
        property is associated with the target.
    repeats : bool
        Drop a feature that is equal to another in every cell, up to scale and shift, or with its levels renamed.
    groups : bool
        Point out a column whose values occur 2 to 50 times each and by which the target differs more than neighbouring values
        explain: declare it as groups.
    echoes : bool
        Suspect a feature that is the target in another form (a cut of it, what it was cut from, the target of later rows).
    sentinels : bool
        Point out numbers and words that look like missing-value codes (-1, 999, zero far from the rest, "unknown"): review, used.

    Returns
    -------
    Findings
        One row a feature: kind, meaning, unit, rows present, missing_share, distinct, range, commonest value, spread, skew,
        outlying_share, single_r2, verdict with figure, limit and reason, and advice. ``more["rows"]`` describes the rows:
        duplicates, contradictions, class balance, outlying targets.

    Raises
    ------
    UsageError

    Examples
    --------
    >>> import chaff
    >>> found = chaff.screen(chaff.demo.table(rows=200))
    >>> found.frame.loc["crumb_score", "verdict"]
    'review'
    """

    missing_share: float | None = 0.6
    top_share: float | None = 0.97
    relative_spread: float | None = None
    least_steps: float | None = 1.0
    spread: float | None = 0.0
    id_share: float | None = 0.98
    level_share: float | None = 0.5
    too_good: float | None = 0.95
    far_above: float | None = 3.0
    tells_p: float = 0.01
    tells_effect: float = 0.1
    doubtful: Literal["review", "drop"] = "review"
    repeats: bool = True
    groups: bool = True
    echoes: bool = True
    sentinels: bool = True
    name: str = ""

    use: ClassVar[str] = "screen"
    without_target: ClassVar[bool] = True
    hint_if_empty: ClassVar[str] = "raise missing_share or top_share, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.doubtful not in ("review", "drop"):
            raise UsageError(f"screen: doubtful must be look or drop, not {self.doubtful!r}")
        for name, value in asdict(self).items():
            if name in ("name", "doubtful"):
                continue
            most = float("inf") if name in ("far_above", "spread", "relative_spread", "least_steps") else 1
            if value is not None and not isinstance(value, bool) and not 0 <= value <= most:
                raise UsageError(f"screen: {name} must be between 0 and {most:g}, not {value}")

    def sets_full_set(self) -> bool:
        """What the screen lets through is the full set that the kept one is held against."""
        return True

    def in_passes(self, table: Table, setting: Setting) -> bool:
        return True

    def judge(self, table: Table, setting: Setting) -> Findings:
        import pandas as pd

        work = setting.work
        facts = work.each(task(column_facts, table), table.features)
        frame = pd.DataFrame([f.row() for f in facts], index=pd.Index(table.features, name="feature"))
        frame = frame.join(missingness_signals(table, facts, self.tells_p, self.tells_effect))
        frame["single_r2"] = np.nan
        able = [f.name for f in facts if f.learnable and not f.id_like(self.id_share)]
        if table.has_target:
            frame.loc[able, "single_r2"] = single_feature_r2(table, able, setting)
        frame["nearly_id"] = [nearly_id(f) for f in facts]
        frame["names_rows"] = [f.names_rows(self.id_share) for f in facts]
        pinned = {f for f in table.features if setting.kept_by_pin(f)}
        leaks = self._leaks(table, facts, frame, setting) if table.has_target else {}
        for name in ("score", "limit", "reason"):
            frame[f"leak_{name}"] = [getattr(leaks.get(f.name), name, "") for f in facts]
        frame["leak_blocked"] = [bool(f.name in leaks and leaks[f.name].blocked) for f in facts]
        frame["groups_words"] = work.each(task(group_words, table), facts) if self.groups and table.has_target else [""] * len(facts)
        twins = repeats(facts, pinned, work) if self.repeats else {}
        for name in ("of", "how"):
            frame[f"repeats_{name}"] = [getattr(twins.get(f.name), name, "") for f in facts]
        echoed = work.each(task(echo_of, table), facts) if self.echoes and table.has_target else [None] * len(facts)
        frame["echo"] = [e.words if e else "" for e in echoed]
        frame["echo_blocked"] = [bool(e and e.blocked) for e in echoed]
        text = [advice_for(f, tells, table) for f, tells in zip(facts, frame["absence_tells"].tolist(), strict=True)]
        frame["advice"] = [in_python(f.name, a) for f, a in zip(facts, text, strict=True)]
        frame["advice_kind"], frame["advice_values"] = [a.kind for a in text], [a.values for a in text]
        target = (
            f"target {table.target.name}" if table.has_target else "no target: leaks, informative missingness and groups are not looked for"
        )
        notes = (f"{target}, {len(table):,} rows", *mentions(table, facts))
        settings = {**asdict(self), "classes": len(table.target.classes)}
        left = [f for f in able if not frame.loc[f, "echo"]]
        return Findings(self.use, frame, "single_r2", BETTER, settings, notes, {"rows": row_checks(table, left)})

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        rows = zip(result.frame.index, result.frame.to_dict("records"), strict=True)
        return tuple(self._verdict(name, row) for name, row in rows)

    def on_all_rows(self, given: tuple[Verdict, ...], result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        """What a sample would drop, judged by the facts of every row: one value, nothing at all, repeats of another column."""
        whole = setting.whole
        if whole is None:
            return given
        rows = {v.feature: result.frame.loc[v.feature].to_dict() for v in given if v.verdict == "drop"}
        return tuple(self._on_all_rows(v.feature, rows[v.feature], whole, setting.work) if v.feature in rows else v for v in given)

    def _on_all_rows(self, name: str, row: Row, whole: Table, work: Work) -> Verdict:
        """One column at a time, so that no more than two are held."""
        facts, partner = column_facts(whole, name), str(row["repeats_of"])
        twin = repeats([column_facts(whole, partner), facts], {partner}, work).get(name) if partner else None
        of_twin = {"repeats_of": getattr(twin, "of", ""), "repeats_how": getattr(twin, "how", "")}
        return self._verdict(name, {**row, **facts.row(), **of_twin})

    def _leaks(self, table: Table, facts: Sequence[Facts], frame: pd.DataFrame, setting: Setting) -> dict[str, Suspicion]:
        """What is too good to be true, alone or in a sum, with what all others say together."""
        alone = {str(f): float(v) for f, v in frame["single_r2"].dropna().items()}
        numbers = {f.name: f.column.values for f in facts if f.kind == "number" and alone.get(f.name, 0.0) >= LEAKAGE_R2}
        if table.target.task == "regression":
            alone |= {f: max(alone[f], rank_r2(x, table.y)) for f, x in numbers.items()}
        rule = LeakRule(table.target.task == "classification", self.too_good, self.far_above)
        top = rule.top(alone)
        others = joint_r2(table, {f: v for f, v in alone.items() if f not in top}, setting) if top else None
        parts = {f for f in top if rule.classes and f in numbers and parted(numbers[f], table.y) >= NEARLY_ALL}
        result = rule.suspects(alone, others, parts)
        if self.echoes and table.target.task == "regression":
            for f, x in numbers.items():
                share = same_cells(x, table.y)
                if share >= SAME_CELLS:
                    words = f"equal to the target in {share:.0%} of the rows: an edited copy?"
                    result[f] = Suspicion(alone[f], f"{SAME_CELLS:g}", words, True)
            sums = sums_to_target(table, {f: v for f, v in alone.items() if v >= LEAST_OF_A_SUM})
            result |= {f: Suspicion(alone[f], "exact", f"adds up to the target: {words}", True) for f, words in sums.items()}
        return result

    def _verdict(self, name: Any, row: Row) -> Verdict:
        for check in (
            self._unusable,
            self._echo,
            self._id,
            self._repeat,
            self._leak,
            self._missing,
            self._one_value,
            self._spread,
            self._disguise,
            self._groups,
        ):
            result = check(name, row)
            if result is not None:
                return result
        return keep(name, self.use)

    def _unusable(self, name: str, row: Row) -> Verdict | None:
        if row["rows"] == 0:
            return drop(name, self.use, "missing_share 1", "", "every value is missing")
        if row["kind"] == "date":
            return drop(name, self.use, "kind date", "", "dates are not used directly; derive numbers from it (age, month, weekday)")
        if row["kind"] == "text" and not Facts.is_id(row, self.id_share):
            return drop(name, self.use, "kind text", "", "free text is not used directly; derive a feature first")
        still = self.spread is not None and row["kind"] == "number" and row["spread"] <= self.spread
        if row["distinct"] == 1 and (self.top_share is not None or still):
            if row["absence_tells"]:
                return self._absence(name, row)
            return drop(name, self.use, "distinct 1", "1", f"one value only: {row['top_value']}")
        return None

    def _id(self, name: str, row: Row) -> Verdict | None:
        if Facts.is_id(row, self.id_share):
            figure = f"distinct_share {row['distinct_share']:.3g}"
            return review(name, self.use, figure, f"{self.id_share:g}", f"looks like an id: {row['id_why']}", stays=False)
        if self.id_share is not None and row["nearly_id"] and not row["single_r2"] > NO_RELATION:
            figure = f"distinct_share {row['distinct_share']:.3g}"
            return review(
                name,
                self.use,
                figure,
                "0.5",
                "looks like an id with repeats: long whole numbers, most of them different, no relation to the target. If rows "
                "of one value belong together, pass --groups NAME",
                stays=True,
            )
        if self.id_share is not None and row["names_rows"] and not row["single_r2"] > NO_RELATION:
            figure = f"distinct_share {row['distinct_share']:.3g}"
            named = named_as_id(name)
            words = "looks like an id: its name says so, and its" if named else "an id? Its"
            reason = f"{words} whole numbers are nearly all different"
            if row["single_r2"] == row["single_r2"]:
                reason += ", with no relation to the target"
            if named or row["single_r2"] == row["single_r2"]:
                return review(name, self.use, figure, f"{self.id_share:g}", reason, stays=not named)
        if row["with_units"]:
            reason = f"numbers written with a unit ('{row['with_units']}')"
            return review(name, self.use, f"distinct {row['distinct']}", "", reason, stays=True)
        if self.level_share is not None and row["kind"] == "category" and row["groups_words"]:
            return self._groups(name, row)
        if self.level_share is not None and row["kind"] == "category" and row["distinct_share"] > self.level_share:
            figure = f"distinct_share {row['distinct_share']:.3g}"
            reason = f"{row['distinct']:,} levels in {row['rows']:,} rows: too few rows per level"
            return drop(name, self.use, figure, f"{self.level_share:g}", reason)
        return None

    def _echo(self, name: str, row: Row) -> Verdict | None:
        if not row["echo"]:
            return None
        return review(name, self.use, _score(row), "", str(row["echo"]), stays=not row["echo_blocked"])

    def _repeat(self, name: str, row: Row) -> Verdict | None:
        if not row["repeats_of"]:
            return None
        return drop(name, self.use, f"repeats {row['repeats_of']}", "", f"is {row['repeats_of']}, {row['repeats_how']}")

    def _disguise(self, name: str, row: Row) -> Verdict | None:
        if not self.sentinels or not row["sentinel"]:
            return None
        return review(name, self.use, "", "", f"{row['sentinel']}; a missing-value code?", stays=True)

    def _leak(self, name: str, row: Row) -> Verdict | None:
        if not row["leak_reason"]:
            return None
        figure = f"alone {row['leak_score']:.3g}"
        return review(name, self.use, figure, row["leak_limit"], row["leak_reason"], stays=not row["leak_blocked"])

    def _groups(self, name: str, row: Row) -> Verdict | None:
        if not row["groups_words"]:
            return None
        advice = f"{row['groups_words']} If rows of one value belong together, pass --groups NAME so that folds do not split them."
        return review(name, self.use, f"distinct {row['distinct']}", "", advice, stays=True)

    def _missing(self, name: str, row: Row) -> Verdict | None:
        if self.missing_share is None or row["missing_share"] <= self.missing_share:
            return None
        if row["absence_tells"]:
            return self._absence(name, row)
        figure = f"missing_share {row['missing_share']:.3g}"
        words = f"{row['missing_share']:.0%} missing"
        if row["absence_p"] == row["absence_p"]:
            words += "; missingness is not associated with the target"
        return self._doubtful(name, figure, f"{self.missing_share:g}", words)

    def _absence(self, name: str, row: Row) -> Verdict:
        figure = f"missing_share {row['missing_share']:.3g}"
        reason = f"{row['missing_share']:.0%} missing; {row['absence_words']} (informative missingness, Holm p < 0.01)"
        return review(name, self.use, figure, f"{self.missing_share or 0:g}", reason, stays=True)

    def _one_value(self, name: str, row: Row) -> Verdict | None:
        if self.top_share is None or row["top_share"] <= self.top_share:
            return None
        figure = f"top_share {row['top_share']:.3g}"
        words = f"{row['top_share']:.1%} of the rows are {row['top_value']}"
        if row["rare_tells"]:
            return review(name, self.use, figure, f"{self.top_share:g}", f"{words}, but {row['rare_words']}", stays=True)
        return self._doubtful(name, figure, f"{self.top_share:g}", words)

    def _spread(self, name: str, row: Row) -> Verdict | None:
        relative, steps = row["relative_spread"], row["digits"]
        if self.spread is not None and row["kind"] == "number" and row["distinct"] > 1 and row["spread"] <= self.spread:
            return drop(name, self.use, f"spread {row['spread']:.3g}", f"{self.spread:g}", "too little spread")
        if row["kind"] != "number":
            return None
        words = f"SD {row['spread']:.3g} around mean {row['middle']:.4g}"
        if self.relative_spread is not None and relative < self.relative_spread:
            figure, limit = f"relative_spread {relative:.2g}", f"{self.relative_spread:g}"
        elif self.least_steps is not None and relative < LITTLE and steps < self.least_steps:
            # Kelvin, a year, a refractive index have little spread for their size too, in many steps: all that is needed.
            figure, limit = f"steps {steps:.2g}", f"{self.least_steps:g}"
            words += ", below the recording precision"
        else:
            return None
        if row["rare_tells"]:
            return review(name, self.use, figure, limit, f"{words}, but {row['rare_words']}", stays=True)
        return self._doubtful(name, figure, limit, words)

    def _doubtful(self, name: str, figure: str, limit: str, words: str) -> Verdict:
        if self.doubtful == "drop":
            return drop(name, self.use, figure, limit, words)
        return review(name, self.use, figure, limit, words, stays=True)


def _score(row: Row) -> str:
    return f"single_r2 {row['single_r2']:.3g}" if row["single_r2"] == row["single_r2"] else ""
