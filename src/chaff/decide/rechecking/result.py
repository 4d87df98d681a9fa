"""What a recheck found: a verdict, its reasons, and the figures behind them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal

from chaff.decide.drift import Drifts
from chaff.metrics import METRICS
from chaff.results.digits import with_error
from chaff.results.plain import plain, records
from chaff.results.shown import frame_html, frame_text
from chaff.stats.paired_loss import KeepUp, MeanDifference
from chaff.visible import Shown

if TYPE_CHECKING:
    import pandas as pd


Verdict = Literal["stay", "refit", "reselect"]
EXIT_CODES: Mapping[str, int] = {"stay": 0, "refit": 10, "reselect": 20}
LEVEL = 0.01  # of each of the questions: together they raise an alarm without reason in few of a hundred rechecks


@dataclass(frozen=True, repr=False)
class Recheck(Shown):
    """Whether a selection still serves, and why not.

    Examples
    --------
    >>> import chaff
    >>> run = chaff.select(chaff.demo.table(rows=400), plan=chaff.Plan((chaff.Screen(), chaff.Search(model="ridge"))))
    >>> chaff.recheck(run.selection, chaff.demo.lots(rows=400, seed=1)).verdict
    'stay'
    """

    verdict: Verdict
    """stay: nothing to do; refit: the same columns, but new coefficients; reselect: select again."""
    reasons: tuple[str, ...]
    """Why not stay."""
    rows: int
    model: str
    metric: str
    then: tuple[float, float] | None
    """Score of the kept set when it was selected (honest), with its standard error; None where none was made."""
    now: tuple[float, float] | None
    """Its score on the new rows over folds, coefficients new; None where it cannot be computed."""
    full_now: tuple[float, float] | None
    """That of every column offered then."""
    keep_up: KeepUp | None = field(repr=False)
    """Kept against full on the new rows, neither chosen on them."""
    drift: Drifts = field(repr=False)
    old: OldRows | None = field(repr=False, default=None)
    """What the old rows add; None without them."""
    rerun: RerunPlan | None = field(repr=False, default=None)
    """The whole plan on the new rows; None where it was not asked for."""
    notes: tuple[str, ...] = ()

    @property
    def exit_code(self) -> int:
        """0 stay, 10 refit, 20 reselect: what `chaff recheck` ends with."""
        return EXIT_CODES[self.verdict]

    @property
    def headline(self) -> str:
        words = {"stay": "keep the selection", "refit": "keep the features, refit the model", "reselect": "run the selection again"}
        return f"{self.verdict}: {words[self.verdict]}" + (f" ({self.reasons[0]})" if self.reasons else "")

    @property
    def scores(self) -> tuple[str, ...]:
        """Then and now, in words."""
        label = METRICS[self.metric].label
        out = []
        if self.now is not None:
            then = f"{label} {with_error(*self.then)} (SE) at selection; " if self.then is not None else f"{label} "
            out.append(f"kept set: {then}on the new rows, refitted, {with_error(*self.now)} (SE) ({self.model})")
        if self.full_now is not None and self.keep_up is not None:
            out.append(f"all candidates of then: {with_error(*self.full_now)}; the kept set {KEEPS_UP[self.keep_up.answer]}")
        return tuple(out)

    def __str__(self) -> str:
        return frame_text("\n".join([self.headline, *self.reasons[1:], *self.scores]), self.drift.frame, ("why", "stability"), self.notes)

    def _repr_html_(self) -> str:
        return frame_html(self.headline, self.drift.frame, ("why", "stability"), [*self.reasons, *self.scores, *self.notes])

    def as_plain(self) -> dict[str, Any]:
        text: dict[str, Any] = {"verdict": self.verdict, "exit_code": self.exit_code, "reasons": list(self.reasons), "rows": self.rows}
        text |= {
            "model": self.model,
            "metric": self.metric,
            "then": plain(self.then),
            "now": plain(self.now),
            "full_now": plain(self.full_now),
        }
        if self.keep_up is not None:
            text["keep_up"] = {
                "answer": self.keep_up.answer,
                "difference": self.keep_up.difference.mean,
                "allowance": self.keep_up.allowance,
            }
        text |= {"drift": self.drift.as_plain(), "notes": list(self.notes)}
        return text | ({"old": self.old.as_plain()} if self.old else {}) | ({"rerun": self.rerun.as_plain()} if self.rerun else {})


KEEPS_UP = {"keeps up": "keeps up", "worse": "is worse", "cannot tell": "inconclusive: these rows cannot tell whether it keeps up"}


@dataclass(frozen=True)
class OldRows:
    """What can be said with the old rows at hand."""

    stale: MeanDifference
    """Loss of coefficients from the old rows less that of new ones, on the new rows."""
    apart: float
    """ROC AUC of a forest that tells old rows from new by the kept columns, over folds; 0.5: it cannot."""
    apart_low: float
    by: pd.DataFrame
    """Which columns it tells them by: importance, largest first."""

    def as_plain(self) -> dict[str, Any]:
        return {"stale": plain(self.stale), "apart": self.apart, "apart_low": self.apart_low, "by": records(self.by)}


@dataclass(frozen=True)
class RerunPlan:
    """The whole plan on the new rows."""

    features: tuple[str, ...]
    comes: tuple[str, ...]
    goes: tuple[str, ...]
    honest: str
    """Its honest score, in words."""
    moved: pd.DataFrame
    """One row a column that has a place in both: stage, then, now; those that moved most first (2nd to 8th is more than 40th to 48th)."""

    def as_plain(self) -> dict[str, Any]:
        return {"features": list(self.features), "comes": list(self.comes), "goes": list(self.goes), "honest": self.honest,
                "moved": records(self.moved)}  # fmt: skip
