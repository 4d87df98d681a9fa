"""The loop that people do: drop a column, look at p, VIF, adjusted R², AIC and the cross-validated score, take it back."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from chaff.errors import DataError, UsageError, nearest
from chaff.evaluate.setting import Setting
from chaff.files import read_json, write_text
from chaff.methods.linear.linear_form import linear_form
from chaff.methods.linear.swept_model import Swept, SweptState, repeat_to_drop
from chaff.models.least_squares import LeastSquares
from chaff.results.trail import trail_frame
from chaff.stats.tolerances import BETTER
from chaff.table.table import Table
from chaff.visible import Shown
from chaff.work import Work, Workers

if TYPE_CHECKING:
    import pandas as pd

HIGH_VIF, WEAK_P = 10.0, 0.05
FORMAT, VERSION = "chaff moves by hand", 1


class ByHand(Shown):
    """A linear model changed one feature at a time; made by `chaff.by_hand`. Every method returns the object itself."""

    def __init__(self, table: Table, features: Sequence[str] | None, start: Sequence[str] | None, folds: int, work: Work) -> None:
        form = linear_form(table, features)
        self.table = form.table
        self.notes = form.notes
        self._swept = Swept(form)
        setting = Setting.of(self.table, folds, work=work)
        self._walk = setting.scorer(self.table, LeastSquares(), "r2").walk()
        first = list(start if start is not None else form.features)
        for name in first:
            self._known(name)
        self._moves: list[dict[str, Any]] = []
        self._swept.enter_all(first)
        for name in self._swept.features:
            self._walk.toggle(name)
        left = [n for n in first if n not in self._swept.features]
        if left:
            self.notes += (f"combinations of others, so not in the model: {', '.join(left[:5])}",)
        self._record("start", "")

    def _known(self, name: str) -> None:
        if name not in self._swept.place:
            known = list(self._swept.place)
            raise UsageError(f"'{name}' is not a candidate feature; choose from {', '.join(known[:12])}.{nearest(name, known)}")

    @property
    def features(self) -> tuple[str, ...]:
        """The features in the model."""
        return self._swept.features

    @property
    def state(self) -> SweptState:
        """p, VIF, coefficients, R², adjusted R², AIC and BIC of the model as it stands."""
        return self._swept.state()

    def drop(self, name: str) -> ByHand:
        """Take a feature out."""
        self._known(name)
        if name not in self.features:
            raise UsageError(f"'{name}' is not in the model, so it cannot be dropped; add('{name}') puts it in")
        return self._change("drop", name)

    def add(self, name: str) -> ByHand:
        """Put a feature in."""
        self._known(name)
        if name in self.features:
            raise UsageError(f"'{name}' is in the model already")
        if not self._swept.enters(name):
            raise UsageError(f"'{name}' is a combination of columns in the model: drop one of those first (chaff.dependencies says which)")
        return self._change("add", name)

    def undo(self) -> ByHand:
        """Take the last move back; it stays in the trail as taken back."""
        done = [m for m in self._moves if m["action"] in ("drop", "add") and not m["undone"]]
        if not done:
            raise UsageError("there is no move to take back")
        done[-1]["undone"] = True
        name = done[-1]["feature"]
        self._swept.toggle(name)
        self._walk.toggle(name)
        self._record("undo", name)
        return self

    def _change(self, action: str, name: str) -> ByHand:
        self._swept.toggle(name)
        self._walk.toggle(name)
        if len(self._moves) % 100 == 0:
            self._swept.refresh()
        self._record(action, name)
        return self

    def _record(self, action: str, name: str) -> None:
        s = self.state
        self._moves.append(
            {
                "action": action,
                "feature": name,
                "size": len(s.features),
                "r_squared": s.r_squared,
                "adjusted_r_squared": s.adjusted,
                "aic": s.aic,
                "bic": s.bic,
                "cv_r_squared": self._walk.score.mean,
                "largest_p": max(s.p.values(), default=float("nan")),
                "largest_vif": max(s.vif.values(), default=float("nan")),
                "undone": False,
            }
        )

    @property
    def trail(self) -> pd.DataFrame:
        """One row a move: action, feature, and every figure after it."""
        return trail_frame(self._moves)

    @property
    def frame(self) -> pd.DataFrame:
        """One row a feature in the model: coefficient, p, vif, and R², AIC and cross-validated R² if it went."""
        import pandas as pd

        s = self.state
        rank = s.rank
        losses = self._swept.losses()
        inside = self._walk.changes(list(s.features)).means if s.features else np.empty(0)
        rows = []
        for k, f in enumerate(s.features):
            rise, c = losses[f]
            adjusted, aic, _ = self._swept.criteria(self._swept.rss + rise, rank - c)
            rows.append((s.coefficient.get(f, float("nan")), s.p[f], s.vif[f], adjusted, aic, float(inside[k])))
        names = ["coefficient", "p", "vif", "adjusted_without", "aic_without", "cv_without"]
        return pd.DataFrame(rows, columns=names, index=pd.Index(s.features, name="feature"))

    @property
    def suggestion(self) -> str:
        """The next move that the usual rules would make, and why: VIF first, as `chaff.prune_linear` does, then p, then AIC."""
        s = self.state
        repeat = repeat_to_drop(self._swept, HIGH_VIF, s.features)
        if repeat is not None:
            return f"drop {repeat[0]}: {repeat[1]}"
        weak = max(s.p, key=lambda f: s.p[f], default="")
        if weak and s.p[weak] > WEAK_P:
            return f"drop {weak}: p {s.p[weak]:.2g}"
        best, aic = "", s.aic
        swept = self._swept
        for f, (fall, c) in swept.gains().items():
            rss, rank = max(swept.rss - fall, 0.0), s.rank + c
            new = swept.criteria(rss, rank)[1]
            # What the first two rules would throw out again is never suggested.
            repeats = min(swept.A[k, k] for k in swept.columns(f)) < 1.0 / HIGH_VIF
            if new < aic - BETTER and not repeats and swept.p_of(fall, c, rss, swept.rows - rank - 1) < WEAK_P:
                best, aic = f, new
        return (
            f"add {best}: AIC {aic:.1f} instead of {s.aic:.1f}"
            if best
            else "nothing: no VIF over 10, no p over 0.05, no feature that lowers AIC"
        )

    def last(self) -> str:
        """The last move in one line, figures before → after."""
        now = self._moves[-1]
        before = self._moves[-2] if len(self._moves) > 1 else now
        parts = [f"{now['action']} {now['feature']}".strip(), f"{now['size']} features"]
        for key, words, form in (
            ("adjusted_r_squared", "adjusted R²", ".4f"),
            ("aic", "AIC", ".1f"),
            ("cv_r_squared", "cross-validated R²", ".4f"),
            ("largest_p", "largest p", ".2g"),
            ("largest_vif", "largest VIF", ".3g"),
        ):
            a, b = format(before[key], form), format(now[key], form)
            parts.append(f"{words} {b}" if now is before or a == b else f"{words} {a} → {b}")
        return " · ".join(parts)

    def save(self, path: str | Path) -> None:
        """Write the moves as JSON, to be made again by `replay`."""
        moves = [{"action": m["action"], "feature": m["feature"]} for m in self._moves[1:]]
        data = {
            "format": FORMAT,
            "version": VERSION,
            "offered": list(self._swept.place),
            "start": self._start(),
            "moves": moves,
            "kept": list(self.features),
        }
        write_text(path, json.dumps(data, indent=1, ensure_ascii=False) + "\n")

    def _start(self) -> list[str]:
        held = set(self.features)
        for m in reversed(self._moves[1:]):
            held ^= {m["feature"]}
        return [f for f in self._swept.place if f in held]

    def replay(self, path: str | Path) -> ByHand:
        """Make the moves of a saved file on this table.

        Raises
        ------
        DataError
            When the file is none of these.
        """
        data = read_json(path, "moves by hand", "holds no moves by hand", FORMAT, VERSION)
        try:
            moves, start = [(m["action"], m["feature"]) for m in data["moves"]], set(data["start"])
        except (KeyError, TypeError) as error:
            raise DataError(f"{Path(path).name} holds no moves by hand: {error!r}") from error
        for name in [f for f in self._swept.place if (f in start) != (f in self.features)]:
            self._change("drop" if name in self.features else "add", name)
        makes = {"drop": self.drop, "add": self.add}
        for action, name in moves:
            if action == "undo":
                self.undo()
            elif action in makes:
                makes[action](name)
            else:
                raise DataError(f"{Path(path).name} holds no moves by hand: '{action}' is none")
        return self

    def __str__(self) -> str:
        return f"{self.last()}\n{self.frame.to_string(float_format='{:.4g}'.format)}\nnext: {self.suggestion}"


def by_hand(
    table: Table,
    features: Sequence[str] | None = None,
    *,
    start: Sequence[str] | None = None,
    folds: int = 5,
    seed: int = 0,
    workers: Workers = None,
) -> ByHand:
    """A linear model that the user changes one feature at a time, seeing every figure at once.

    Parameters
    ----------
    table : Table
        With a number target.
    features : list of str, optional
        What is on offer; all that a linear form can take when left out.
    start : list of str, optional
        What is in the model at first; all of them when left out, [] for none.
    folds, seed, workers : int
        For the cross-validated R².

    Returns
    -------
    ByHand
        ``drop(name)``, ``add(name)``, ``undo()``, ``suggestion``, ``frame``, ``trail``, ``save(path)``, ``replay(path)``.

    Notes
    -----
    Each move is an update of the cross-products and of the cross-validation in closed form, not a refit. Complete rows.

    Examples
    --------
    >>> import chaff
    >>> hand = chaff.by_hand(chaff.demo.table(rows=300), ["protein_pct", "protein_nir_pct", "ash_pct"])
    >>> hand.suggestion.split(":")[0]
    'drop protein_nir_pct'
    >>> hand.drop("protein_nir_pct").features
    ('protein_pct', 'ash_pct')
    """
    return ByHand(table, features, start, folds, Work(seed, workers))
