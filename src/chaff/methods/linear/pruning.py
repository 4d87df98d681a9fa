"""Elimination and stepping by p, VIF, AIC or BIC, one feature a move, and p-values that the choice has not spoilt."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, Literal

import numpy as np

from chaff.errors import UsageError
from chaff.evaluate.setting import Pin, Setting
from chaff.methods.linear.rows import LinearForm, linear_form
from chaff.methods.linear.swept import Swept
from chaff.models.least_squares import LeastSquares
from chaff.results.findings import Findings
from chaff.table.table import Table
from chaff.work import Work

Rule = Literal["p", "vif", "both", "aic", "bic"]
RULES = ("p", "vif", "both", "aic", "bic")
DIRECTIONS = ("backward", "forward", "both")
OPTIMISTIC = "p-values after selection are optimistic: the same rows chose the features; p_split is not"


def prune_linear(
    table: Table,
    by: Rule = "p",
    *,
    direction: str = "backward",
    p_limit: float = 0.05,
    vif_limit: float = 10.0,
    splits: int = 50,
    pins: Iterable[Pin] = (),
    features: Sequence[str] | None = None,
    folds: int = 5,
    seed: int = 0,
    workers: int | None = None,
) -> Findings:
    """Take features out of a linear model (or put them in) one at a time by a rule, and show every move.

    Parameters
    ----------
    table : Table
        With a number target.
    by : "p", "vif", "both", "aic" or "bic"
        Largest p over `p_limit`; largest VIF over `vif_limit`; VIF first and then p, in turn; or the move that lowers AIC or
        BIC most.
    direction : "backward", "forward" or "both"
        "both" may take back what an earlier move did. VIF goes backward only.
    splits : int
        Half-splits for `p_split`; 0 leaves it out.
    pins : iterable of Pin
        Features pinned in never leave.
    features : list of str, optional
    folds, seed, workers : int

    Returns
    -------
    Findings
        One row a feature: stays, p (at the end), vif, p_split, move at which it last went. ``more["trail"]``: one row a move
        with action, feature, its p and VIF then, and after it R², adjusted R², AIC, BIC, cross-validated R² and the features.

    Notes
    -----
    p_split: the elimination on one half, the test on the other, p = 1 for what was not chosen and times the number chosen
    otherwise, over many splits, twice the median, at most 1.  Source: Efroymson, 1960; Meinshausen, Meier and Bühlmann, 2009.

    Examples
    --------
    >>> import chaff
    >>> found = chaff.prune_linear(chaff.demo.table(), splits=0, features=["protein_pct", "ash_pct", "lab_temp_c"])
    >>> list(found.frame.index[found.frame["stays"]])
    ['protein_pct', 'ash_pct']
    """
    import pandas as pd

    if by not in RULES:
        raise UsageError(f"by must be one of {', '.join(RULES)}, not '{by}'")
    if direction not in DIRECTIONS or (direction != "backward" and by in ("vif", "both")):
        raise UsageError(f"direction must be one of {', '.join(DIRECTIONS)} (backward for VIF), not '{direction}'")
    if not 0 < p_limit < 1 or not vif_limit > 1 or splits < 0:
        raise UsageError("p_limit must be between 0 and 1, vif_limit above 1, splits 0 or more")
    form = linear_form(table, features)
    pinned = {p.feature for p in pins if p.verdict == "keep"}
    form.table.check_known(list(pinned))
    work = Work(seed, workers)
    swept = Swept(form)
    walk = Setting.of(form.table, folds, work=work).scorer(form.table, LeastSquares(), "r2").walk()
    moves: list[dict[str, Any]] = []

    def told(action: str, feature: str, why: str) -> None:
        s = swept.state()
        for f in set(s.features) ^ set(walk.features):
            walk.toggle(f)
        moves.append(
            {
                "action": action,
                "feature": feature,
                "why": why,
                "size": len(s.features),
                "r_squared": s.r_squared,
                "adjusted_r_squared": s.adjusted,
                "aic": s.aic,
                "bic": s.bic,
                "cv_r_squared": walk.score.mean,
                "features": ", ".join(s.features),
            }
        )

    _run(swept, by, direction, p_limit, vif_limit, pinned, told)
    end = swept.state()
    went = {m["feature"]: k for k, m in enumerate(moves) if m["action"] == "drop"}
    frame = pd.DataFrame(index=pd.Index(form.features, name="feature"))
    frame["stays"] = [f in end.features for f in form.features]
    frame["p"] = [end.p.get(f, np.nan) for f in form.features]
    frame["vif"] = [end.vif.get(f, np.nan) for f in form.features]
    if splits:
        frame["p_split"] = _split_p(form, by, direction, p_limit, vif_limit, pinned, splits, work)
    frame["move"] = [went.get(f, np.nan) if f not in end.features else np.nan for f in form.features]
    trail = pd.DataFrame(moves).rename_axis("move")
    notes = (f"{form.y.size:,} rows, {int(frame['stays'].sum())} of {len(frame)} features stay by {by}", OPTIMISTIC, *form.notes)
    settings = {"by": by, "direction": direction, "p_limit": p_limit, "vif_limit": vif_limit, "splits": splits}
    return Findings("linear", frame, "p", False, settings, notes, {"trail": trail}, {"p": "lower", "p_split": "lower", "vif": "lower"})


def _run(swept: Swept, by: str, direction: str, p_limit: float, vif_limit: float, pinned: set[str], told: Any) -> None:
    first = swept.form.features if direction == "backward" else [f for f in swept.form.features if f in pinned]
    swept.enter_all(sorted(first, key=lambda f: f not in pinned))
    told("start", "", "")
    gone = {f for f in first if f not in swept.features}
    for f in [f for f in swept.form.features if f in gone]:
        told("drop", f, "a combination of others")
    seen = {frozenset(swept.features)}
    while True:
        move = _next(swept, by, direction, p_limit, vif_limit, pinned)
        if move is None:
            return
        feature, why = move
        action = "drop" if feature in swept.features else "add"
        swept.toggle(feature)
        told(action, feature, why)
        now = frozenset(swept.features)
        if direction == "both" and now in seen:
            return
        seen.add(now)


def _next(swept: Swept, by: str, direction: str, p_limit: float, vif_limit: float, pinned: set[str]) -> tuple[str, str] | None:
    s = swept.state()
    free = [f for f in s.features if f not in pinned]
    if by in ("vif", "both") and free:
        worst = max(free, key=lambda f: s.vif[f])
        if s.vif[worst] > vif_limit:
            return worst, f"VIF {s.vif[worst]:.3g}"
    if by == "vif":
        return None
    if by in ("aic", "bic"):
        return _by_criterion(swept, by, direction, s, free)
    if direction != "forward" and free:
        weak = max(free, key=lambda f: s.p[f])
        if s.p[weak] > p_limit:
            return weak, f"p {s.p[weak]:.2g}"
    if direction != "backward":
        gains = {f: swept.p_of(g, c, max(swept.rss - g, 0.0), swept.rows - s.rank - c - 1) for f, (g, c) in swept.gains().items()}
        best = min(gains, key=lambda f: gains[f], default="")
        if best and gains[best] < p_limit:
            return best, f"p {gains[best]:.2g}"
    return None


def _by_criterion(swept: Swept, by: str, direction: str, s: Any, free: list[str]) -> tuple[str, str] | None:
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
    if not best or options[best] >= now - 1e-9:
        return None
    return best, f"{by.upper()} {options[best]:.1f}"


def _split_p(form: LinearForm, by: str, direction: str, p_limit: float, vif_limit: float, pinned: set[str], splits: int, work: Work) -> Any:
    """Twice the median over half-splits of (p on the other half) x (number chosen)."""
    n = form.y.size
    groups = form.table.groups

    def one(k: int) -> Any:
        stream = work.stream("linear split", k)
        if groups is None:
            half = stream.permutation(n)[: n // 2]
        else:
            names = np.unique(groups)
            half = np.flatnonzero(np.isin(groups, stream.permutation(names)[: names.size // 2]))
        other = np.setdiff1d(np.arange(n), half)
        chooser = Swept(_rows(form, half))
        _run(chooser, by, direction, p_limit, vif_limit, pinned, lambda *a: None)
        out = np.ones(len(form.features))
        chosen = [k for k, f in enumerate(form.features) if f in chooser.features]
        tester = Swept(_rows(form, other))
        for f in chooser.features:
            if tester.enters(f):
                tester.toggle(f)
        s = tester.state()
        for k in chosen:
            out[k] = min(s.p.get(form.features[k], 1.0) * len(chosen), 1.0)
        return np.where(np.isnan(out), 1.0, out)

    return np.minimum(2.0 * np.median(np.array(work.each(one, range(splits))), axis=0), 1.0)


def _rows(form: LinearForm, rows: Any) -> LinearForm:
    return LinearForm(form.table.take(rows), form.columns, form.starts, form.X[rows], form.y[rows], form.notes)
