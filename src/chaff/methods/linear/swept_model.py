"""A linear model that features enter and leave by updates: every figure of it after each move, without a refit."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from chaff.arrays import Floats, Ints
from chaff.methods.linear.linear_form import LinearForm
from chaff.stats.inflation import inverse_of
from chaff.stats.tail_probabilities import f_upper
from chaff.stats.tolerances import SINGULAR


@dataclass(frozen=True)
class SweptState:
    """What a model of some features says."""

    features: tuple[str, ...]
    p: dict[str, float]
    """Of each feature in the model (F test of all its columns)."""
    vif: dict[str, float]
    """Largest over its columns."""
    coefficient: dict[str, float]
    """Of features of one column, in the columns' own units."""
    r_squared: float
    adjusted: float
    aic: float
    bic: float
    rank: int


class Swept:
    """The correlations of the columns and the target, swept on the columns of the features in the model.

    Sweeping a column in or out is one rank-one update.  Source: Beaton, 1964; Goodnight, 1979.
    """

    def __init__(self, form: LinearForm) -> None:
        self.form = form
        w = form.table.weights
        w = np.ones(form.y.size) if w is None else w * (form.y.size / w.sum())
        Z = np.column_stack([form.X, form.y])
        Z = (Z - (w @ Z) / w.sum()) * np.sqrt(w)[:, None]
        length = np.sqrt((Z * Z).sum(0))
        self.scale = np.where(length > 0, length, 1.0)
        Z /= self.scale
        self.start = Z.T @ Z
        self.A = self.start.copy()
        self.rows = form.y.size
        self.log_weights = float(np.log(w[w > 0]).sum())
        self.held: set[int] = set()
        self.owner: Ints = form.owner
        self.place = {f: k for k, f in enumerate(form.features)}

    def columns(self, feature: str) -> list[int]:
        f = self.place[feature]
        return list(range(int(self.form.starts[f]), int(self.form.starts[f + 1])))

    @property
    def features(self) -> tuple[str, ...]:
        inside = {int(self.owner[k]) for k in self.held}
        return tuple(f for f in self.form.features if self.place[f] in inside)

    def toggle(self, feature: str) -> None:
        """The feature enters, or leaves when it is in the model."""
        own = self.columns(feature)
        leaving = any(k in self.held for k in own)
        for k in own:
            if leaving and k in self.held:
                self._sweep(k, -1.0)
                self.held.discard(k)
            elif not leaving and self.A[k, k] > SINGULAR:
                self._sweep(k, 1.0)
                self.held.add(k)

    def enter_all(self, features: Iterable[str]) -> None:
        """Features enter a model that is empty, in one factorisation where nothing is singular, one by one otherwise."""
        names = [f for f in features if f not in self.features]
        own = np.array([k for f in names for k in self.columns(f)], np.int64)
        inverse = inverse_of(self.start[np.ix_(own, own)]) if own.size and not self.held else None
        if inverse is None:
            for f in names:
                if self.enters(f):
                    self.toggle(f)
            return
        rest = np.setdiff1d(np.arange(self.start.shape[0]), own)
        cross = self.start[np.ix_(own, rest)]
        weights = inverse @ cross
        self.A = np.empty_like(self.start)
        self.A[np.ix_(own, own)] = -inverse
        self.A[np.ix_(own, rest)], self.A[np.ix_(rest, own)] = weights, weights.T
        self.A[np.ix_(rest, rest)] = self.start[np.ix_(rest, rest)] - cross.T @ weights
        self.held = set(own.tolist())

    def enters(self, feature: str) -> bool:
        """Whether it has anything that the model does not."""
        return any(self.A[k, k] > SINGULAR for k in self.columns(feature))

    def _sweep(self, k: int, sign: float) -> None:
        A, d = self.A, self.A[k, k]
        row = A[k] / d
        A -= np.outer(A[:, k], row)
        A[k] = A[:, k] = sign * row
        A[k, k] = -1.0 / d

    def refresh(self) -> None:
        """A fresh factorisation of the same model."""
        held = sorted(self.held)
        self.A, self.held = self.start.copy(), set()
        for k in held:
            if self.A[k, k] > SINGULAR:
                self._sweep(k, 1.0)
                self.held.add(k)

    @property
    def rss(self) -> float:
        """Share of the target's variation that is left."""
        return float(max(self.A[-1, -1], 0.0))

    def criteria(self, rss: float, rank: int) -> tuple[float, float, float]:
        """(adjusted R², AIC, BIC) of a model of that rank that leaves `rss`."""
        n, df = self.rows, self.rows - rank - 1
        adjusted = 1.0 - rss * (n - 1) / df if df > 0 else float("nan")
        whole = rss * self.scale[-1] ** 2
        fit = n * (np.log(2 * np.pi) + np.log(whole / n) + 1.0) - self.log_weights if whole > 0 else -np.inf
        count = rank + 2
        return float(adjusted), float(fit + 2 * count), float(fit + np.log(n) * count)

    def losses(self) -> dict[str, tuple[float, int]]:
        """Feature in the model → (rise of the residual share when it leaves, its columns)."""
        out = {}
        for f in self.features:
            own = [k for k in self.columns(f) if k in self.held]
            block, b = -self.A[np.ix_(own, own)], self.A[own, -1]
            rise = float(b[0] ** 2 / block[0, 0]) if len(own) == 1 else float(b @ np.linalg.lstsq(block, b, rcond=None)[0])
            out[f] = (max(rise, 0.0), len(own))
        return out

    def gains(self) -> dict[str, tuple[float, int]]:
        """Feature outside → (fall of the residual share when it enters, columns that are new)."""
        inside, out = set(self.features), {}
        for f in self.form.features:
            if f in inside:
                continue
            own = [k for k in self.columns(f) if self.A[k, k] > SINGULAR]
            if not own:
                continue
            block, b = self.A[np.ix_(own, own)], self.A[own, -1]
            if len(own) == 1:
                out[f] = (float(b[0] ** 2 / block[0, 0]), 1)
            else:
                out[f] = (float(b @ np.linalg.lstsq(block, b, rcond=SINGULAR)[0]), int(np.linalg.matrix_rank(block, tol=1e-9)))
        return out

    def p_of(self, change: float, columns: int, rss: float, df: int) -> float:
        """F test of so many columns."""
        if df <= 0 or columns <= 0:
            return float("nan")
        f = change / columns / (rss / df) if rss > 0 else np.inf
        return float(f_upper(np.array(f), np.array(columns), np.array(df)))

    def state(self) -> SweptState:
        rank, rss = len(self.held), self.rss
        adjusted, aic, bic = self.criteria(rss, rank)
        losses = self.losses()
        df = self.rows - rank - 1
        vif = {f: max(float(-self.A[k, k]) for k in self.columns(f) if k in self.held) for f in losses}
        single = {f: self.columns(f)[0] for f, (_, c) in losses.items() if c == 1 and len(self.columns(f)) == 1}
        return SweptState(
            self.features,
            {f: self.p_of(rise, c, rss, df) for f, (rise, c) in losses.items()},
            vif,
            {f: float(self.A[k, -1] * self.scale[-1] / self.scale[k]) for f, k in single.items()},
            1.0 - rss,
            adjusted,
            aic,
            bic,
            rank,
        )

    def brings_below(self, feature: str, others: Sequence[str], limit: float) -> bool:
        """Whether one of the others, all in the model, has no VIF over the limit any more when this feature leaves."""
        own = [k for k in self.columns(feature) if k in self.held]
        block = -self.A[np.ix_(own, own)]
        for g in others:
            rest = [k for k in self.columns(g) if k in self.held and k not in own]
            cross = self.A[np.ix_(rest, own)]
            part = cross / block[0, 0] if len(own) == 1 else np.linalg.lstsq(block, cross.T, rcond=None)[0].T
            if rest and (-np.diagonal(self.A)[rest] - (cross * part).sum(1) <= limit).all():
                return True
        return False

    def after(self, feature: str) -> tuple[float, int]:
        """(residual share, rank) if this feature came or went."""
        losses = self.losses() if feature in self.features else {}
        if feature in losses:
            rise, c = losses[feature]
            return self.rss + rise, len(self.held) - c
        fall, c = self.gains().get(feature, (0.0, 0))
        return max(self.rss - fall, 0.0), len(self.held) + c


def repeat_to_drop(swept: Swept, limit: float, free: Sequence[str], largest: bool = False) -> tuple[str, str] | None:
    """Of the columns that explain one another beyond the limit, the one to drop and why; None where there is none.

    The one without which the adjusted R² is highest, among those over the limit and those whose leaving brings one of these below it;
    with `largest` the one with the largest VIF, which may be the best of them.
    """
    s = swept.state()
    over = [f for f in s.features if s.vif[f] > limit]
    if not over or not free:
        return None
    if largest:
        worst = max((f for f in over if f in free), key=lambda f: (s.vif[f], f), default=None)
        return None if worst is None else (worst, f"VIF {s.vif[worst]:.3g}")
    able = [f for f in free if f in over or swept.brings_below(f, over, limit)]
    losses = swept.losses()
    adjusted = {f: swept.criteria(swept.rss + losses[f][0], s.rank - losses[f][1])[0] for f in able}
    if not able:
        return None
    weakest = max(able, key=lambda f: (np.nan_to_num(round(adjusted[f], 12), nan=-np.inf), s.vif[f], f))
    return weakest, f"VIF {s.vif[weakest]:.3g}" if weakest in over else f"explains {max(over, key=lambda f: s.vif[f])}"


def standardised_blocks(form: LinearForm) -> tuple[Floats, Floats, Ints]:
    """(correlations of the columns, with the target, starts)."""
    A = Swept(form).start
    return A[:-1, :-1], A[:-1, -1], form.starts
