"""Elimination and stepping by p, VIF, AIC or BIC, one feature a move, and p-values that the choice has not spoilt."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.errors import UsageError
from chaff.evaluate.setting import Setting
from chaff.evaluate.walk import Walk
from chaff.methods.linear.linear_form import LinearForm, linear_form
from chaff.methods.linear.swept_model import Swept, SweptState, repeat_to_drop
from chaff.models.least_squares import LeastSquares
from chaff.results.findings import Better, Findings
from chaff.results.trail import trail_frame
from chaff.results.verdict import Verdict, drop, keep
from chaff.stats.tolerances import BETTER
from chaff.table.table import Table
from chaff.work import Work, task

Rule = Literal["p", "vif", "both", "aic", "bic"]
RULES = ("p", "vif", "both", "aic", "bic")
DIRECTIONS = ("backward", "forward", "both")
OPTIMISTIC = "the naive p-values ignore the selection; use the split-sample p (p_split)"
Reporter = Callable[[str, str, str], None]


@dataclass(frozen=True)
class Pruning:
    """Drop features from a linear model (or add them) one at a time by a rule, and show every step.

    Parameters
    ----------
    by : "p", "vif", "both", "aic" or "bic"
        Largest p over `p_limit`; a VIF over `vif_limit` (see `order`); VIF first and then p, in turn; or the step that lowers
        AIC or BIC most.
    direction : "backward", "forward" or "both"
        "both" may undo an earlier step. VIF goes backward only.
    p_limit : float
        Largest p that is kept.
    vif_limit : float
        Largest VIF that is kept.
    order : "loss" or "largest"
        Of the features that explain one another beyond `vif_limit`, drop the one whose loss costs the adjusted R² least, or the
        one with the largest VIF, which may be the best of them.
    splits : int
        Half-splits for `p_split`; 0 leaves it out.
    folds : int
        For the cross-validated R² beside every step.

    Returns
    -------
    Findings
        One row a feature: stays, p (at the end), vif, p_split, move (step of its last removal). ``more["trail"]``: one row a step
        with action, feature, its p and VIF then, and after it R², adjusted R², AIC, BIC, cross-validated R² and the features.

    Raises
    ------
    UsageError, DataError
        For a target that is not a number.

    Notes
    -----
    p_split: the elimination on one half, the test on the other; p = 1 for a feature that was not chosen, else p times the number
    chosen; over many splits twice the median, at most 1. Source: Efroymson, 1960; Meinshausen, Meier and Bühlmann, 2009.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.prune_linear(chaff.demo.table(), splits=0, features=["protein_pct", "ash_pct", "lab_temp_c"])
    >>> list(found.frame.index[found.frame["stays"]])
    ['protein_pct', 'ash_pct']
    """

    by: Rule = "p"
    direction: Literal["backward", "forward", "both"] = "backward"
    p_limit: float = 0.05
    vif_limit: float = 10.0
    order: Literal["loss", "largest"] = "loss"
    splits: int = 50
    folds: int = 5
    name: str = ""

    use: ClassVar[str] = "linear"
    hint_if_empty: ClassVar[str] = "raise p_limit or vif_limit, or pin a feature (--pin-keep)"

    def __post_init__(self) -> None:
        if self.by not in RULES:
            raise UsageError(f"by must be one of {', '.join(RULES)}, not '{self.by}'")
        if self.direction not in DIRECTIONS or (self.direction != "backward" and self.by in ("vif", "both")):
            raise UsageError(f"direction must be one of {', '.join(DIRECTIONS)} (backward for VIF), not '{self.direction}'")
        if not 0 < self.p_limit < 1 or not self.vif_limit > 1 or self.splits < 0:
            raise UsageError("p_limit must be between 0 and 1, vif_limit above 1, splits 0 or more")

    def judge(self, table: Table, setting: Setting) -> Findings:
        form = linear_form(table)
        pinned = {f for f in table.features if setting.kept_by_pin(f)}
        swept, work = Swept(form), setting.work
        walk = Setting.of(form.table, self.folds, work=work).scorer(form.table, LeastSquares(), "r2").walk()
        moves: list[dict[str, Any]] = []

        def report_move(action: str, feature: str, why: str) -> None:
            moves.append(_move(swept, walk, action, feature, why))

        run_rule(swept, self, pinned, report_move)
        frame = _end(form, swept.state(), moves)
        if self.splits:
            halves = work.each(task(_on_halves, form, self, pinned, work), range(self.splits), "half-splits")
            frame.insert(3, "p_split", np.minimum(2.0 * np.median(np.array(halves), axis=0), 1.0))
        notes = (f"{form.y.size:,} rows, {int(frame['stays'].sum())} of {len(frame)} features kept by {self.by}", OPTIMISTIC, *form.notes)
        ways: dict[str, Better] = {"p": "lower", "p_split": "lower", "vif": "lower"}
        return Findings(self.use, frame, "p", ways, asdict(self), notes, {"trail": trail_frame(moves)})

    def verdicts(self, result: Findings, setting: Setting) -> tuple[Verdict, ...]:
        trail = result.more["trail"]
        why = {r["feature"]: r["why"] for _, r in trail.iterrows() if r["action"] == "drop"}
        limit = {"p": f"{self.p_limit:g}", "vif": f"{self.vif_limit:g}"}.get(self.by, "")
        out = []
        for f, row in result.frame.iterrows():
            name = str(f)
            if row["stays"]:
                out.append(keep(name, self.use, f"p {row['p']:.2g}" if row["p"] == row["p"] else "", limit))
            else:
                out.append(
                    drop(name, self.use, why.get(name, ""), limit, f"dropped by {self.by}" if name in why else f"never added by {self.by}")
                )
        return tuple(out)


def _move(swept: Swept, walk: Walk, action: str, feature: str, why: str) -> dict[str, Any]:
    """Every figure after a move; the walk follows the model."""
    s = swept.state()
    for f in set(s.features) ^ set(walk.features):
        walk.toggle(f)
    return {
        "action": action,
        "feature": feature,
        "size": len(s.features),
        "why": why,
        "r_squared": s.r_squared,
        "adjusted_r_squared": s.adjusted,
        "aic": s.aic,
        "bic": s.bic,
        "cv_r_squared": walk.score.mean,
        "features": ", ".join(s.features),
    }


def _end(form: LinearForm, end: SweptState, moves: list[dict[str, Any]]) -> Any:
    import pandas as pd

    went = {m["feature"]: k for k, m in enumerate(moves) if m["action"] == "drop"}
    frame = pd.DataFrame(index=pd.Index(form.features, name="feature"))
    frame["stays"] = [f in end.features for f in form.features]
    frame["p"] = [end.p.get(f, np.nan) for f in form.features]
    frame["vif"] = [end.vif.get(f, np.nan) for f in form.features]
    frame["move"] = [went.get(f, np.nan) if f not in end.features else np.nan for f in form.features]
    return frame


def run_rule(swept: Swept, rule: Pruning, pinned: set[str], text: Reporter) -> None:
    """Moves until the rule makes none."""
    first = swept.form.features if rule.direction == "backward" else [f for f in swept.form.features if f in pinned]
    swept.enter_all(sorted(first, key=lambda f: f not in pinned))
    text("start", "", "")
    gone = {f for f in first if f not in swept.features}
    for f in [f for f in swept.form.features if f in gone]:
        text("drop", f, "a combination of other features")
    seen = {frozenset(swept.features)}
    while True:
        move = _next(swept, rule, pinned)
        if move is None:
            return
        feature, why = move
        action = "drop" if feature in swept.features else "add"
        swept.toggle(feature)
        text(action, feature, why)
        now = frozenset(swept.features)
        if rule.direction == "both" and now in seen:
            return
        seen.add(now)


def _next(swept: Swept, rule: Pruning, pinned: set[str]) -> tuple[str, str] | None:
    by, direction = rule.by, rule.direction
    s = swept.state()
    free = [f for f in s.features if f not in pinned]
    repeat = repeat_to_drop(swept, rule.vif_limit, free, rule.order == "largest") if by in ("vif", "both") else None
    if repeat is not None:
        return repeat
    if by == "vif":
        return None
    if by in ("aic", "bic"):
        return _by_criterion(swept, by, direction, s, free)
    if direction != "forward" and free:
        weak = max(free, key=lambda f: s.p[f])
        if s.p[weak] > rule.p_limit:
            return weak, f"p {s.p[weak]:.2g}"
    if direction != "backward":
        gains = {f: swept.p_of(g, c, max(swept.rss - g, 0.0), swept.rows - s.rank - c - 1) for f, (g, c) in swept.gains().items()}
        best = min(gains, key=lambda f: gains[f], default="")
        if best and gains[best] < rule.p_limit:
            return best, f"p {gains[best]:.2g}"
    return None


def _by_criterion(swept: Swept, by: str, direction: str, s: SweptState, free: list[str]) -> tuple[str, str] | None:
    which = 1 if by == "aic" else 2
    now = s.aic if by == "aic" else s.bic
    options = {}
    if direction != "forward":
        for f, (rise, c) in swept.losses().items():
            if f in free:
                options[f] = swept.criteria(swept.rss + rise, s.rank - c)[which]
    if direction != "backward":
        for f, (fall, c) in swept.gains().items():
            options[f] = swept.criteria(max(swept.rss - fall, 0.0), s.rank + c)[which]
    best = min(options, key=lambda f: options[f], default="")
    if not best or options[best] >= now - BETTER:
        return None
    return best, f"{by.upper()} {options[best]:.1f}"


def _on_halves(form: LinearForm, rule: Pruning, pinned: set[str], work: Work, k: int) -> Floats:
    """(p on one half) x (number chosen on the other), 1 for what was not chosen.  Source: Meinshausen, Meier and Bühlmann, 2009."""
    half = _half(form, work.stream("linear split", k))
    chooser = Swept(_rows(form, half))
    run_rule(chooser, rule, pinned, lambda *move: None)
    tester = Swept(_rows(form, np.setdiff1d(np.arange(form.y.size), half)))
    for f in chooser.features:
        if tester.enters(f):
            tester.toggle(f)
    p, count = tester.state().p, len(chooser.features)
    out = np.array([min(p.get(f, 1.0) * count, 1.0) if f in chooser.features else 1.0 for f in form.features])
    return np.where(np.isnan(out), 1.0, out)


def _half(form: LinearForm, stream: np.random.Generator) -> Ints:
    """Half of the rows, or of the groups."""
    groups = form.table.groups
    if groups is None:
        return stream.permutation(form.y.size)[: form.y.size // 2]
    names = np.unique(groups)
    return np.flatnonzero(np.isin(groups, stream.permutation(names)[: names.size // 2]))


def _rows(form: LinearForm, rows: Any) -> LinearForm:
    return LinearForm(form.table.take(rows), form.columns, form.starts, form.X[rows], form.y[rows], form.notes)
