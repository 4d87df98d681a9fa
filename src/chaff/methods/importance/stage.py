"""Importance: what a model uses, by one of several ways."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from typing import Any, ClassVar

from chaff.choices import plan_value
from chaff.errors import DataError, UsageError
from chaff.evaluate.setting import Setting
from chaff.evaluate.stage import name_of
from chaff.methods.importance.way import Way, as_way
from chaff.models.memory_needs import check_memory, learns_in_passes
from chaff.models.named import as_model
from chaff.models.protocols import Model
from chaff.results.cuts import Cut
from chaff.results.findings import Findings
from chaff.results.verdict import Verdict, drop, keep
from chaff.table.table import Table

IN_PASSES = ("given others", "permutation", "impurity")


@dataclass(frozen=True)
class Importance:
    """Measure the importance of each feature in a model, by a way of your choice.

    Parameters
    ----------
    model : model, str or dict
        What is fitted: ``chaff.Forest(trees=200)``, "lasso", ``{"name": "boosting", "rounds": 100}``, or a model of your own from
        ``chaff.models.adapt``.
    by : way, str or dict
        "given others" (trees: permuted freely and given the other features, with a test), "permutation" (every model), "coefficient"
        (linear models), "impurity" (trees), "split standing" (trees), "drop column" (every model), "shapley" (trees, linear models),
        "pooled" (several of them); or one with settings, ``chaff.Permutation(together=0.9)``.
    shuffles : int or None
        Permutations of each feature in each fold, for ways that permute; None for the default of the way.
    alpha : float
        A feature is significant when its Holm-adjusted one-sided p is below this, for ways that test.
    cut : dict or None
        Which features are kept, by importance: ``{"top": 20}``, ``{"share": 0.3}``, ``{"above": 0.01}``, ``{"times_mean": 1}`` or
        ``{"significant": 0.05}``; None only measures. `Findings.try_limits` compares several without any new computation.

    Returns
    -------
    Findings
        One row a feature: importance, importance_sd over folds, scaled (0 to 1), the columns of the way, verdict.
        ``more["by_fold"]`` has the importance in each fold. The first note explains what the way measures and when it misleads.

    Raises
    ------
    UsageError, ModelError

    Examples
    --------
    >>> import chaff
    >>> table = chaff.demo.table(rows=200).with_features(["protein_pct", "ash_pct", "lab_temp_c"])
    >>> chaff.importance(table, chaff.Forest(trees=20)).ranked().index[0]
    'protein_pct'
    >>> chaff.importance(table, "lasso", by="coefficient", cut={"top": 2}).frame["stays"].sum()
    np.int64(2)
    """

    model: Model | str | Mapping[str, Any] = "forest"
    by: Way | str | Mapping[str, Any] = "given others"
    shuffles: int | None = None
    alpha: float = 0.05
    cut: Mapping[str, float] | None = None
    name: str = ""

    use: ClassVar[str] = "importance"
    hint_if_empty: ClassVar[str] = "relax its cut, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if (self.shuffles is not None and self.shuffles < 1) or not 0 < self.alpha < 1:
            raise UsageError("importance: shuffles must be 1 or more and alpha between 0 and 1")
        object.__setattr__(self, "model", as_model(self.model))
        object.__setattr__(self, "by", as_way(self.by))
        if self.cut is not None:
            cut = Cut.from_mapping(self.cut)
            if cut.rule == "significant" and "alpha" not in {f.name for f in fields(self.by)}:  # type: ignore[arg-type]
                raise UsageError(f"importance: {self.way.name} has no significance test; cut by top, share, above, …")

    @property
    def way(self) -> Way:
        """The way with this stage's shuffles and alpha, where it has such settings."""
        way: Any = as_way(self.by)
        known = {f.name for f in fields(way)}
        changed = {"alpha": self.alpha} if "alpha" in known and self.alpha != type(self).alpha else {}
        if self.shuffles is not None and "shuffles" in known:
            changed["shuffles"] = self.shuffles
        made: Way = replace(way, **changed) if changed else way
        return made

    def never_drops(self) -> bool:
        return self.cut is None

    def uses_target(self) -> bool:
        """Only where it was given a cut: it measures otherwise."""
        return self.cut is not None

    @property
    def learns_in_passes(self) -> bool:
        """Whether model and way need no rows side by side in memory."""
        return self.way.name in IN_PASSES and learns_in_passes(as_model(self.model))

    def in_passes(self, table: Table, setting: Setting) -> bool:
        return self.learns_in_passes

    def judge(self, table: Table, setting: Setting) -> Findings:
        if not table.features:
            raise DataError("importance: no feature is left to measure: pin one (--pin-keep), or skip the preceding stages (--all-columns)")
        model = as_model(self.model)
        memory = check_memory(table, model, setting.folds.count, setting.work.at_once)
        if memory:
            setting.work.tell(f"{name_of(self)} ({memory})")
        result = self.way.measure(table, model, setting)
        return replace(result, settings={**result.settings, "cut": self.cut, "model": plan_value(self.model, "label")})

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        cut = Cut.from_mapping(self.cut) if self.cut is not None else None
        stays = None if cut is None else set(result.stays(cut))
        given = " given the other features" if "given_others" in result.frame else ""
        out = []
        for f, v in result.frame["importance"].items():
            figure = f"importance {v:.3g}"
            if stays is None or f in stays:
                word = f"by {self.way.name}"
                if "significant" in result.frame:
                    word = f"{'' if result.frame.loc[f, 'significant'] else 'not '}significant{given}"
                out.append(keep(str(f), self.use, figure, "" if cut is None else str(cut), word))
            else:
                out.append(drop(str(f), self.use, figure, str(cut), f"not in {cut} by importance"))
        return tuple(out)


def side_by_side(result: Findings, other: Findings, one: str, two: str) -> Findings:
    """The findings of one model with another's beside them, and which of the two kept sets each feature is in."""
    import pandas as pd

    if one == two:
        one, two = f"{one} (first)", f"{two} (second)"
    frame = pd.DataFrame({one: result.frame["importance"], two: other.frame["importance"]})
    frame[f"{one}, scaled"], frame[f"{two}, scaled"] = result.frame["scaled"], other.frame["scaled"]
    a, b = (f.frame["stays"].reindex(frame.index).fillna(False).astype(bool) for f in (result, other))
    frame["kept by"] = [(("both" if y else one) if x else (two if y else "neither")) for x, y in zip(a, b, strict=True)]
    both = result.rank().corr(other.rank())
    note = f"{one} and {two} rank the features with a correlation of {both:.2f}"
    if (~a).any() or (~b).any():
        note += f"; kept by both {int((a & b).sum())}, only by {one} {int((a & ~b).sum())}, only by {two} {int((b & ~a).sum())}"
    return replace(result, notes=(*result.notes, note), more={**result.more, "against": frame})
